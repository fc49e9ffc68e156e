// A field of a structure set by hand, and the sums over it made right.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/crc32c.h"
#include "base/guid.h"
#include "base/lay.h"
#include "lantern/error.h"
#include "lantern/repair.h"
#include "lantern/structure.h"
#include "lantern/text.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/plan/manual_step.h"
#include "repair/plan/plan_sources.h"
#include "repair/trial.h"
#include "volume/gpt_layout.h"

namespace lantern::repair {
namespace {

constexpr std::size_t kMaxNumber = 8;

[[noreturn]] void fail(const std::string& what, const Advice& next) {
  throw Error(ErrorCode::usage, {}, std::nullopt, what, next);
}

std::optional<std::uint64_t> number_of(std::string_view text) {
  int base = 10;
  if (text.starts_with("0x") || text.starts_with("0X")) {
    text.remove_prefix(2);
    base = 16;
  }
  std::uint64_t value = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value, base);
  if (text.empty() || error != std::errc{} || end != text.data() + text.size()) return std::nullopt;
  return value;
}

// "yes", a number, or text for a field that is text; as long as the field is.
Bytes value_bytes(const Field& field, const std::string& value) {
  const auto length = static_cast<std::size_t>(field.place.length);
  Bytes bytes(length);
  constexpr std::size_t kGptName = 72;
  if (length == kGptName && field.name.ends_with(".name")) {
    if (2 * value.size() > length)
      fail(fmt::format("{} has room for {} letters", field.name, length / 2), "shorten the value");
    for (std::size_t i = 0; i < value.size(); ++i) {
      if ((static_cast<unsigned char>(value[i]) & 0x80) != 0)
        fail("only letters of ASCII are set by hand here",
             {"write its bytes with ", Do::write_bytes});
      bytes[2 * i] = static_cast<std::byte>(value[i]);
    }
    return bytes;
  }
  if (field.value.starts_with('"')) {
    if (value.size() > length)
      fail(fmt::format("{} has room for {} bytes", field.name, length), "shorten the value");
    std::fill(bytes.begin(), bytes.end(), std::byte{' '});
    lay_text(bytes, 0, value);
    return bytes;
  }
  if (length == 16)
    if (Bytes guid = guid_bytes(value); !guid.empty()) return guid;
  std::optional<std::uint64_t> number = number_of(value);
  const bool flag = field.name.ends_with("active");
  if (flag && value == "yes") number = 0x80;
  if (flag && value == "no") number = 0;
  if (!number || length > kMaxNumber || (length < 8 && *number >> (8 * length) != 0))
    fail(fmt::format("\"{}\" is no value for {}, which has {} bytes", for_terminal(value),
                     field.name, length),
         length > kMaxNumber ? Advice{"write its bytes: ", Do::write_bytes}
                             : Advice("a number, as 2048 or 0x0c; yes or no for a flag"));
  for (std::size_t i = 0; i < length; ++i) bytes[i] = static_cast<std::byte>(*number >> (8 * i));
  return bytes;
}

class FieldPlan {
 public:
  FieldPlan(const Address& source, const std::string& name, const Session& session)
      : trial_(
            resolved(source), session,
            Scratch::in_memory(session.context().clock->now_seconds(), session.context().scratch)),
        target_(trial_.open()),
        context_(trial_.fresh().context()) {
    const std::size_t dot = name.find('.');
    if (dot == std::string::npos)
      fail(fmt::format("\"{}\" names no field", for_terminal(name)),
           {"STRUCTURE.FIELD, as ", Do::sector, " shows them: mbr.entry1.active"});
    structure_ = read_structure(target_, name.substr(0, dot), context_);
    field_ = structure_.find(name.substr(dot + 1));
    if (field_ == nullptr)
      fail(fmt::format("{} has no field \"{}\"", structure_.name,
                       for_terminal(name.substr(dot + 1))),
           {Action{Do::sector, {for_terminal(source.print()), structure_.name}}, " lists them"});
  }

  RepairPlan run(const std::string& value, const Context& context) {
    RepairPlan plan;
    plan.source = trial_.source().print();
    plan.sources = plan_sources(trial_.source(), &target_, context);
    RepairStep step;
    step.code = "manual.field";
    step.what = fmt::format("{}.{}: {} becomes {}", structure_.name, field_->name, field_->value,
                            for_terminal(value));
    Bytes after = structure_.bytes;
    lay_bytes(after, static_cast<std::size_t>(field_->place.offset), value_bytes(*field_, value));
    sums(after, step);
    add_changes(step, structure_.address, structure_.offset, structure_.bytes, after);
    if (step.writes.empty())
      fail(fmt::format("{}.{} is that already", structure_.name, field_->name), "nothing to do");
    trial_.fill_before(step);
    trial_.write(step);
    add_manual_step(plan, std::move(step));
    return plan;
  }

 private:
  void sums(Bytes& after, RepairStep& step) const {
    const bool own_sum = field_->name == "header_sum" || field_->name == "sum";
    if (structure_.name == "gpt:entries") return sum_of_entries(after, step);
    if (own_sum) return;  // it was asked for
    if (structure_.name == "gpt" || structure_.name == "gpt:copy") {
      gpt::lay_header_sum(after);
    } else if (structure_.name.starts_with("superblock")) {
      if ((le32(after, 0x64) & 0x400) != 0)
        lay_le32(after, 0x3FC, crc32c_chain(~0u, ByteView(after).first(0x3FC)));
    } else if (has_text(after, 3, "EXFAT   ")) {
      sum_of_region(after, step);
    } else if (structure_.name.starts_with("mft")) {
      // The last two bytes of each sector stand in the list of guard numbers.
      for (std::uint64_t at = 510; at < structure_.bytes.size(); at += 512)
        if (!intersect(field_->place, {at, 2}).empty())
          fail("this field runs over the guard numbers of its record",
               {"write its bytes: ", Do::write_bytes});
    }
  }

  // Both headers have a sum over the entries, and the other copy has the entries, too.
  void sum_of_entries(const Bytes& after, RepairStep& step) const {
    const DiskLayer& disk = target_.disk();
    const SourcePtr& flat = disk.container.flat;
    for (const char* name : {"gpt", "gpt:copy"}) {
      Structure header;
      try {
        header = read_structure(target_, name, context_);
      } catch (const Error&) {
        continue;
      }
      if (!has_text(header.bytes, 0, gpt::kSignature)) continue;
      const std::uint64_t at = le64(header.bytes, gpt::kEntriesAt) * disk.table.sector_size;
      const std::uint64_t length = gpt::entries_bytes(header.bytes);
      Bytes entries = read_bytes(
          *flat, at, static_cast<std::size_t>(std::min<std::uint64_t>(length, 1u << 20)));
      if (entries.size() != length || length < after.size()) continue;
      const Bytes before = entries;
      lay_bytes(entries, 0, after);
      if (at != structure_.offset) add_changes(step, header.address, at, before, entries);
      Bytes changed = header.bytes;
      lay_le32(changed, gpt::kEntriesSumAt, gpt::crc(entries));
      gpt::lay_header_sum(changed);
      add_changes(step, header.address, header.offset, header.bytes, changed);
    }
  }

  void sum_of_region(const Bytes& after, RepairStep& step) const {
    const std::size_t size = std::size_t{1} << std::min<unsigned>(u8(after, 0x6C), 12);
    const Target target = trial_.open();
    Bytes region = read_bytes(*trial_.layer(structure_.address), structure_.offset, 12 * size);
    if (region.size() < 12 * size) return;
    lay_bytes(region, 0, after);
    const Bytes before =
        read_bytes(*trial_.layer(structure_.address), structure_.offset + 11 * size, size);
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < 11 * size; ++i)
      if (i != 0x6A && i != 0x6B && i != 0x70) sum = ((sum & 1) << 31 | sum >> 1) + u8(region, i);
    Bytes sector(size);
    for (std::size_t at = 0; at < size; at += 4) lay_le32(sector, at, sum);
    add_changes(step, structure_.address, structure_.offset + 11 * size, before, sector);
  }

  Trial trial_;
  Target target_;
  Context context_;
  Structure structure_;
  const Field* field_ = nullptr;
};

}  // namespace

RepairPlan plan_field(const Address& source, const std::string& field, const std::string& value,
                      const Session& session) {
  return FieldPlan(source, field, session).run(value, session.context());
}

}  // namespace lantern::repair
