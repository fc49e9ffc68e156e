#include "lantern/physical/failing_disk.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <optional>

#include "base/bytes.h"
#include "lantern/error.h"
#include "lantern/sources.h"
#include "lantern/text.h"
#include "physical/reading/order.h"
#include "physical/reading/status.h"
#include "recover/hash_thread.h"
#include "recover/image/output_file.h"
#include "source/given.h"

namespace lantern {
namespace {

using Steady = std::chrono::steady_clock;

constexpr std::chrono::seconds kBetweenNotes{2};
constexpr std::size_t kBlock = 4096;  // of zeros that become a hole
constexpr std::size_t kSampled = 8;   // places that must be as in the copy
constexpr std::uint64_t kPiece = 1u << 20;

class FailingDiskCopy {
 public:
  FailingDiskCopy(SourcePtr disk, std::string out, const FailingCopy& wanted,
                  const Context& context)
      : disk_(std::move(disk)),
        path_(std::move(out)),
        part_(path_ + ".part"),
        status_path_(path_ + ".reading"),
        wanted_(wanted),
        context_(context),
        status_{wanted.name, ReadMap(disk_->size())} {
    std::error_code error;
    if (std::filesystem::exists(std::filesystem::symlink_status(path_, error)))
      throw Error(ErrorCode::refused, path_, std::nullopt, "is there already",
                  "choose another name; nothing is replaced");
    order_.rounds = wanted.rounds;
    order_.sector_bytes =
        disk_->physical_sector_size().value_or(disk_->logical_sector_size().value_or(512));
    take_up();
    // First the status: a run that is killed now leaves nothing that is taken for another's.
    if (!state_.went_on) write_reading_status(status_path_, status_);
    out_.emplace(part_, state_.went_on);
    out_->set_length(disk_->size());
  }

  FailingCopyState run() {
    noted_ = Steady::now();
    try {
      read_in_order(
          status_.map, order_, [&](Range range) { return read(range); }, context_);
      note();
      if (wanted_.hash) hash();
      out_->finish(path_);
    } catch (const Error& error) {
      if (error.code() != ErrorCode::stopped && error.code() != ErrorCode::cannot_read) throw;
      state_.stopped = true;
      state_.why_stopped = error.what();
      if (!gone_for_want_of_room_) note();
    }
    report();
    return state_;
  }

 private:
  void take_up() {
    auto before = read_reading_status(status_path_);
    std::error_code error;
    if (!before && std::filesystem::exists(part_, error))
      throw Error(ErrorCode::refused, part_, std::nullopt,
                  "is the unfinished copy of a run without --failing",
                  "go on with that, or choose another name");
    if (!before || before->map.bytes(ReadState::good) == 0) return;
    if (std::filesystem::file_size(part_, error) != disk_->size() || error ||
        before->map.size() != disk_->size())
      throw Error(ErrorCode::refused, status_path_, std::nullopt,
                  fmt::format("belongs to a disk of {} bytes and a copy of it that is not here; "
                              "this disk has {}",
                              before->map.size(), disk_->size()),
                  "choose another name for the copy");
    status_.map = std::move(before->map);
    state_.went_on = true;
    refuse_another_disk(before->name);
  }

  // Some of what was read must come again as it is in the copy.
  void refuse_another_disk(const std::string& name) {
    const SourcePtr copy = open_file_source(part_, context_);
    std::vector<Range> good;
    for (const ReadMap::Run& run : status_.map.runs())
      if (run.state == ReadState::good && run.range.length >= order_.sector_bytes)
        good.push_back(run.range);
    const std::size_t step = std::max<std::size_t>(good.size() / kSampled, 1);
    for (std::size_t i = 0; i < good.size(); i += step) {
      Bytes now(static_cast<std::size_t>(order_.sector_bytes)), then(now.size());
      const Range last{good[i].end() - now.size(), now.size()};
      if (!disk_->read_until_trouble(last.offset, now).unreadable.empty()) continue;
      copy->read(last.offset, then);
      if (now != then)
        throw Error(ErrorCode::refused, status_path_, last.offset,
                    "belongs to another disk, " + for_terminal(name) +
                        ": this one holds something else there",
                    "connect that disk, or choose another name for the copy");
    }
  }

  Tried read(Range range) {
    Bytes bytes(static_cast<std::size_t>(range.length));
    const auto began = Steady::now();
    const ReadResult got = disk_->read_until_trouble(range.offset, bytes);
    const auto took = Steady::now() - began;
    ++state_.reads;
    Tried tried;
    tried.good = got.unreadable.empty() ? got.length : got.unreadable.front().offset - range.offset;
    tried.slow = took > wanted_.slow;
    keep(range.offset, ByteView(bytes).first(static_cast<std::size_t>(tried.good)));
    if (Steady::now() - noted_ > kBetweenNotes) {
      note();
      noted_ = Steady::now();
    }
    if (context_.progress)
      context_.progress->update(status_.map.bytes(ReadState::good), disk_->size(), path_);
    return tried;
  }

  // Zeros are a hole already: nothing else was ever written there.
  void keep(std::uint64_t offset, ByteView bytes) {
    const auto is_zero = [&](std::size_t at) {
      return all_zero(bytes.subspan(at, std::min(kBlock, bytes.size() - at)));
    };
    try {
      for (std::size_t at = 0; at < bytes.size();) {
        std::size_t end = at;
        while (end < bytes.size() && !is_zero(end)) end += std::min(kBlock, bytes.size() - end);
        if (end > at) out_->write(offset + at, bytes.subspan(at, end - at));
        for (at = end; at < bytes.size() && is_zero(at);) at += std::min(kBlock, bytes.size() - at);
      }
    } catch (const Error& error) {
      gone_for_want_of_room_ = error.code() == ErrorCode::stopped;
      throw;
    }
  }

  // What the status says was read must be in the copy, whatever happens next.
  void note() {
    out_->sync();
    write_reading_status(status_path_, status_);
  }

  void hash() {
    const SourcePtr copy = open_file_source(part_, context_);
    HashThread thread(context_.cancel);
    for (std::uint64_t at = 0; at < disk_->size(); at += kPiece) {
      context_.check_cancelled();
      auto bytes =
          std::make_shared<Bytes>(static_cast<std::size_t>(std::min(kPiece, disk_->size() - at)));
      copy->read(at, *bytes);
      const std::size_t length = bytes->size();
      thread.add(std::move(bytes), length);
    }
    state_.sha256 = thread.finish_hex();
  }

  void report() {
    state_.disk_bytes = disk_->size();
    state_.good_bytes = status_.map.bytes(ReadState::good);
    for (const ReadMap::Run& run : status_.map.runs()) {
      if (run.state == ReadState::failed) add_to(state_.unreadable, run.range);
      if (run.state == ReadState::untried || run.state == ReadState::left)
        add_to(state_.untried, run.range);
    }
  }

  static void add_to(std::vector<Range>& ranges, Range range) {
    if (!ranges.empty() && ranges.back().end() == range.offset)
      ranges.back().length += range.length;
    else
      ranges.push_back(range);
  }

  SourcePtr disk_;
  std::string path_, part_, status_path_;
  FailingCopy wanted_;
  Context context_;
  ReadingStatus status_;
  ReadOrder order_;
  FailingCopyState state_;
  std::optional<OutputFile> out_;
  Steady::time_point noted_;
  bool gone_for_want_of_room_ = false;
};

}  // namespace

FailingCopyState copy_failing_disk(const SourcePtr& disk, const std::string& out,
                                   const FailingCopy& wanted, const Context& context) {
  return FailingDiskCopy(given(disk), out, wanted, context).run();
}

}  // namespace lantern
