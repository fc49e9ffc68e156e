#include "serve/net/iscsi/scsi/unit.h"

#include <algorithm>

#include "base/sha256.h"
#include "lantern/error.h"

namespace lantern::scsi {
namespace {

constexpr std::size_t kPiece = 1u << 20;  // bytes that are read or written at once
constexpr std::size_t kMaxPending = 8;    // for one nexus

// Byte 1 of a command.
constexpr std::uint8_t kProtection = 0xE0, kForce = 0x08;
constexpr std::uint8_t kUnmap = 0x08, kAnchor = 0x10, kNoData = 0x01;  // of WRITE SAME

bool is_write(Operation operation) {
  return operation == Operation::write || operation == Operation::write_and_verify;
}

// 1: all bytes are sent to be compared, 3: one block of them.
unsigned comparison(ByteView cdb) {
  return u8(cdb, 1) >> 1 & 3;
}

// What of an answer is wanted.
std::uint64_t wanted_length(ByteView cdb, const Command& command) {
  switch (command.operation) {
    case Operation::request_sense:
    case Operation::mode_sense:
      return command.length == 6 ? u8(cdb, 4) : be16(cdb, 7);
    case Operation::inquiry:
      return be16(cdb, 3);
    case Operation::reservation_in:
      return be16(cdb, 7);
    case Operation::read_capacity_16:
      return be32(cdb, 10);
    case Operation::read_capacity_10:
      return 8;
    default:
      return be32(cdb, 6);
  }
}

// Bytes of parameters that follow the command.
std::uint64_t list_length(ByteView cdb, const Command& command) {
  if (command.operation == Operation::reservation_out) return be32(cdb, 5);
  return command.length == 6 ? u8(cdb, 4) : be16(cdb, 7);
}

constexpr std::uint64_t kMaxList = 4096;

// As the disk was lost to another program, or what lies there cannot be written.
Fault fault_of(const Error& error, const LiveDisk& live) {
  if (live.has_changed()) return kChangedBelow;
  return error.code() == ErrorCode::refused ? kReadOnly : kWriteFailed;
}

void cut(Task& task, ByteView cdb) {
  if (task.answer.empty()) return;
  task.answer.resize(static_cast<std::size_t>(
      std::min<std::uint64_t>(task.answer.size(), wanted_length(cdb, *task.command))));
}

}  // namespace

Task of_no_unit(ByteView cdb, const std::vector<std::uint64_t>& units) {
  Task task;
  task.command = find_command(cdb);
  const auto operation =
      task.command != nullptr ? std::optional(task.command->operation) : std::nullopt;
  if (operation == Operation::inquiry)
    task.answer = inquiry_of_none();
  else if (operation == Operation::report_units)
    task.answer = unit_list(units);
  else if (operation == Operation::request_sense)
    task.answer = sense_of(kNoSuchUnit);
  else
    task.fail(kNoSuchUnit);
  cut(task, cdb);
  return task;
}

Unit::Unit(LiveDisk& live, const LiveDisk::Raw& raw, std::string target)
    : live_(live), raw_(raw), reservations_([this](const Nexus& nexus, const Fault& fault) {
        const auto known = pending_.find(nexus);
        if (known != pending_.end() && known->second.size() < kMaxPending)
          known->second.push_back(fault);
      }) {
  facts_.name = raw.name;
  facts_.serial = sha256_hex(target + '\n' + raw.name).substr(0, 16);
  facts_.target = std::move(target);
  facts_.block_bytes = raw.sector_bytes;
  facts_.physical_bytes = raw.sector_bytes;
  facts_.blocks = raw.range.length / raw.sector_bytes;
  facts_.is_writable = live.is_writable();
  facts_.keeps_writes = live.is_writable();
}

std::optional<Fault> Unit::pending(const Nexus& nexus, bool take) {
  const auto known = pending_.find(nexus);
  if (known == pending_.end() || known->second.empty()) return std::nullopt;
  const Fault first = known->second.front();
  if (take) known->second.pop_front();
  return first;
}

void Unit::began(const Nexus& nexus) {
  const std::lock_guard lock(mutex_);
  pending_[nexus] = {kNewNexus};
}

void Unit::ended(const Nexus& nexus) {
  const std::lock_guard lock(mutex_);
  pending_.erase(nexus);
  reservations_.ended(nexus);
}

void Unit::reset() {
  const std::lock_guard lock(mutex_);
  ++life_;
  reservations_.reset();
  for (auto& [nexus, told] : pending_)
    if (told.size() < kMaxPending) told.push_back(kWasReset);
}

Task Unit::begin(const Nexus& nexus, ByteView cdb, const std::vector<std::uint64_t>& units) {
  Task task;
  task.nexus = nexus;
  task.cdb.assign(cdb.begin(), cdb.end());
  task.command = find_command(cdb);
  task.life = life_;
  {
    const std::lock_guard lock(mutex_);
    // What a nexus has to be told comes before all but what asks who is there.
    const std::uint8_t code = u8(cdb, 0);
    const bool asks = code == 0x12 || code == 0xA0 || code == 0x03;
    if (const auto told = asks ? std::nullopt : pending(nexus, true)) {
      task.fail(*told);
      return task;
    }
    if (task.command == nullptr) {
      task.fail(has_services(code) ? wrong_field(1) : kNoSuchCommand);
      return task;
    }
    if (!reservations_.allows(nexus, task.command->needs)) {
      task.status = Status::conflict;
      return task;
    }
  }
  if (task.command->operation == Operation::report_units)
    task.answer = unit_list(units);
  else
    run(task, cdb);
  cut(task, cdb);
  return task;
}

void Unit::run(Task& task, ByteView cdb) {
  const auto give = [&](std::optional<Bytes> answer, const Fault& otherwise) {
    if (answer)
      task.answer = std::move(*answer);
    else
      task.fail(otherwise);
  };
  Fault fault;
  switch (task.command->operation) {
    case Operation::test_unit_ready:
    case Operation::prefetch:
    case Operation::synchronize:
      if (task.command->operation != Operation::test_unit_ready) plan_blocks(task, cdb);
      if (!task.failed() && live_.has_changed()) task.fail(kChangedBelow);
      if (!task.failed() && task.command->operation == Operation::synchronize) flush(task);
      return;
    case Operation::start_stop:
      return;
    case Operation::request_sense: {
      const std::lock_guard lock(mutex_);
      // Descriptors instead of fields are not made.
      if ((u8(cdb, 1) & 1) != 0)
        task.fail(wrong_field(1));
      else
        task.answer = sense_of(pending(task.nexus, true).value_or(kOk));
      return;
    }
    case Operation::inquiry:
      return give(inquiry(facts_, cdb), wrong_field(2));
    case Operation::read_capacity_10:
      task.answer = capacity_10(facts_);
      return;
    case Operation::read_capacity_16:
      task.answer = capacity_16(facts_);
      return;
    case Operation::mode_sense:
      task.answer = mode_sense(facts_, cdb, fault);
      if (fault != kOk) task.fail(fault);
      return;
    case Operation::report_commands:
      task.answer = command_list(cdb, fault);
      if (fault != kOk) task.fail(fault);
      return;
    case Operation::report_management:
      task.answer = management_list();
      return;
    case Operation::reservation_in: {
      const std::lock_guard lock(mutex_);
      task.answer = reservations_.list(cdb);
      return;
    }
    case Operation::reserve:
    case Operation::release: {
      const std::lock_guard lock(mutex_);
      task.status = task.command->operation == Operation::reserve
                        ? reservations_.reserve(task.nexus)
                        : reservations_.release(task.nexus);
      return;
    }
    case Operation::mode_select:
    case Operation::reservation_out:
      task.wants = list_length(cdb, *task.command);
      if (task.wants > kMaxList) task.fail(kListTooShort);
      if (task.wants == 0) finish(task, true);
      return;
    default:
      plan_blocks(task, cdb);
  }
}

void Unit::plan_blocks(Task& task, ByteView cdb) {
  const Operation operation = task.command->operation;
  const Blocks blocks = blocks_of(cdb, *task.command);
  const bool short_form = task.command->length == 6;
  const bool writes = task.command->needs == Needs::to_write && operation != Operation::synchronize;
  const bool cached = operation == Operation::prefetch || operation == Operation::synchronize;
  if (!short_form && !cached && (u8(cdb, 1) & kProtection) != 0) return task.fail(wrong_field(1));
  if (writes && !facts_.is_writable) return task.fail(kReadOnly);
  if (blocks.first > facts_.blocks || blocks.count > facts_.blocks - blocks.first)
    return task.fail(kPastTheEnd);
  if (cached) return;
  const std::uint64_t block = facts_.block_bytes;
  if (operation == Operation::write_same) return plan_same(task, cdb, blocks);
  if (blocks.count > kMaxTransfer / block ||
      (operation == Operation::compare_and_write && blocks.count > kMaxSwap))
    return task.fail(wrong_field(static_cast<std::uint16_t>(task.command->length == 10   ? 7
                                                            : task.command->length == 12 ? 6
                                                                                         : 10)));
  task.place = {blocks.first * block, blocks.count * block};
  const unsigned compared = short_form ? 0 : comparison(cdb);
  switch (operation) {
    case Operation::read:
      task.reads = task.place;
      return;
    case Operation::verify:
      if (compared == 2) return task.fail(wrong_field(1));
      task.wants = blocks.count == 0 ? 0
                   : compared == 1   ? task.place.length
                   : compared == 3   ? block
                                     : 0;
      if (compared == 0) check_readable(task, task.place);
      return;
    case Operation::write_and_verify:
      if (compared > 1) return task.fail(wrong_field(1));
      task.wants = task.place.length;
      return;
    case Operation::compare_and_write:
      task.wants = 2 * task.place.length;
      return;
    default:
      task.wants = task.place.length;
  }
}

void Unit::plan_same(Task& task, ByteView cdb, Blocks blocks) {
  const std::uint64_t block = facts_.block_bytes;
  const std::uint8_t flags = u8(cdb, 1);
  if ((flags & (kUnmap | kAnchor)) != 0) return task.fail(wrong_field(1));
  if (blocks.count == 0 || blocks.count > kMaxSame / block)
    return task.fail(wrong_field(static_cast<std::uint16_t>(task.command->length == 10 ? 7 : 10)));
  task.place = {blocks.first * block, blocks.count * block};
  if (task.command->length == 16 && (flags & kNoData) != 0) {
    task.taken.resize(static_cast<std::size_t>(block));
    write_same(task);
  } else {
    task.wants = block;
  }
}

std::size_t Unit::read(Task& task, std::uint64_t offset, std::span<std::byte> out) const {
  try {
    const ReadResult got = live_.read(raw_, offset, out);
    std::uint64_t right = got.length;
    for (const Range& lost : got.unreadable)
      right = std::min(right, lost.offset > offset ? lost.offset - offset : 0);
    if (right == out.size()) return out.size();
    const std::uint64_t block = (offset + right) / facts_.block_bytes;
    task.fail(unreadable_at(block));
    const std::uint64_t edge = block * facts_.block_bytes;
    return static_cast<std::size_t>(edge > offset ? edge - offset : 0);
  } catch (const Error&) {
    task.fail(live_.has_changed() ? kChangedBelow : unreadable_at(offset / facts_.block_bytes));
    return 0;
  }
}

void Unit::check_readable(Task& task, Range range) {
  Bytes piece(static_cast<std::size_t>(std::min<std::uint64_t>(range.length, kPiece)));
  for (std::uint64_t at = range.offset; at < range.end() && !task.failed(); at += piece.size())
    read(task, at,
         std::span(piece).first(
             static_cast<std::size_t>(std::min<std::uint64_t>(piece.size(), range.end() - at))));
}

void Unit::take(Task& task, ByteView bytes) {
  if (task.failed()) return;
  const Operation operation = task.command->operation;
  if (is_write(operation)) {
    {
      // It may have been taken away since the command came.
      const std::lock_guard lock(mutex_);
      if (!reservations_.allows(task.nexus, task.command->needs)) task.status = Status::conflict;
    }
    if (!task.failed()) write(task, task.place.offset + task.sent, bytes);
  } else if (operation == Operation::verify && comparison(task.cdb) == 1) {
    compare(task, task.sent, bytes);
  } else {
    task.taken.insert(task.taken.end(), bytes.begin(), bytes.end());
  }
  task.sent += bytes.size();
}

void Unit::finish(Task& task, bool whole) {
  if (task.failed()) return;
  const Operation operation = task.command->operation;
  if (is_write(operation)) {
    const bool forced = operation == Operation::write_and_verify || (u8(task.cdb, 1) & kForce) != 0;
    if (forced && task.command->length != 6) flush(task);
    return;
  }
  if (!whole) return task.fail(kTooLittleData);
  switch (operation) {
    case Operation::mode_select:
      if (const auto fault = mode_select(facts_, task.cdb, task.taken)) task.fail(*fault);
      return;
    case Operation::reservation_out: {
      const std::lock_guard lock(mutex_);
      task.status = reservations_.change(task.nexus, task.cdb, task.taken, task.fault);
      return;
    }
    case Operation::write_same:
      return write_same(task);
    case Operation::compare_and_write:
      return compare_and_write(task);
    case Operation::verify:
      if (comparison(task.cdb) == 3)
        for (std::uint64_t at = 0; at < task.place.length && !task.failed();
             at += facts_.block_bytes)
          compare(task, at, task.taken);
      return;
    default:
      return;
  }
}

void Unit::write(Task& task, std::uint64_t offset, ByteView bytes) {
  try {
    const std::lock_guard lock(swap_);
    live_.write(raw_, offset, bytes);
  } catch (const Error& error) {
    task.fail(fault_of(error, live_));
  }
}

void Unit::write_same(Task& task) {
  const std::size_t block = task.taken.size();
  Bytes piece;
  while (piece.size() < std::min<std::uint64_t>(kPiece, task.place.length))
    piece.insert(piece.end(), task.taken.begin(), task.taken.begin() + static_cast<long>(block));
  for (std::uint64_t done = 0; done < task.place.length && !task.failed(); done += piece.size())
    write(task, task.place.offset + done,
          ByteView(piece).first(static_cast<std::size_t>(
              std::min<std::uint64_t>(piece.size(), task.place.length - done))));
}

void Unit::compare(Task& task, std::uint64_t offset, ByteView bytes) {
  Bytes there(bytes.size());
  if (read(task, task.place.offset + offset, there) < there.size()) return;
  const auto unlike = std::mismatch(there.begin(), there.end(), bytes.begin());
  if (unlike.first != there.end())
    task.fail(unlike_at(offset + static_cast<std::uint64_t>(unlike.first - there.begin())));
}

void Unit::compare_and_write(Task& task) {
  const auto half = static_cast<std::size_t>(task.place.length);
  const std::lock_guard lock(swap_);
  compare(task, 0, ByteView(task.taken).first(half));
  if (task.failed() || half == 0) return;
  try {
    live_.write(raw_, task.place.offset, ByteView(task.taken).subspan(half));
  } catch (const Error& error) {
    task.fail(fault_of(error, live_));
  }
  if ((u8(task.cdb, 1) & kForce) != 0) flush(task);
}

void Unit::flush(Task& task) {
  try {
    live_.flush();
  } catch (const Error& error) {
    task.fail(fault_of(error, live_));
  }
}

}  // namespace lantern::scsi
