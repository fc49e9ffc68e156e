#include "volume/apm.h"

#include <fmt/format.h>

#include "base/bytes.h"
#include "base/checked.h"
#include "volume/overlaps.h"

namespace lantern {
namespace {

constexpr std::size_t kRecordBytes = 512;
constexpr std::uint32_t kMaxEntries = 1024;  // systems make a few
constexpr std::uint32_t kMaxBlockBytes = 4096;

struct Entry {
  std::uint32_t count = 0;  // of all entries
  std::uint64_t first = 0, blocks = 0;
  std::string name, type;
};

// A text that ends with its first zero.
std::string name_at(ByteView record, std::size_t at) {
  const std::string text = text_of(slice(record, at, 32));
  return text.substr(0, text.find('\0'));
}

std::optional<Entry> read_entry(const ByteSource& disk, std::uint64_t at) {
  Bytes record(kRecordBytes);
  const ReadResult got = disk.read(at, record);
  if (got.length < record.size() || !has_text(record, 0, "PM")) return std::nullopt;
  return Entry{be32(record, 4), be32(record, 8), be32(record, 12), name_at(record, 16),
               name_at(record, 48)};
}

// Bytes of a block by the driver record at `at`; 0: there is none that can be.
std::uint32_t block_bytes(const ByteSource& disk, std::uint64_t at) {
  Bytes record(kRecordBytes);
  if (disk.read(at, record).length < record.size() || !has_text(record, 0, "ER")) return 0;
  const std::uint32_t bytes = be16(record, 2);
  const bool can_be = bytes >= kRecordBytes && bytes <= kMaxBlockBytes && is_power_of_two(bytes);
  return can_be ? bytes : 0;
}

// Whether entries begin behind a driver record. Discs made for both count blocks of 2048 there and
// lay their entries 512 apart.
std::uint32_t step_of_entries(const ByteSource& disk, std::uint64_t at, std::uint32_t bytes) {
  std::uint32_t any = 0;
  for (const std::uint32_t step : {bytes, std::uint32_t{kRecordBytes}}) {
    const auto entry = step != 0 ? read_entry(disk, at + step) : std::nullopt;
    // A map begins with the entry of itself; others may lie where that would be at another step.
    if (entry && entry->first == 1) return step;
    if (entry && any == 0) any = step;
  }
  return any;
}

// Drivers, patches and what firmware starts.
bool is_system(std::string_view type) {
  return type.starts_with("Apple_Driver") || type == "Apple_Patches" || type == "Apple_Boot" ||
         type == "Apple_Bootstrap" || type == "Apple_FWDriver";
}

bool is_volume(const Entry& entry) {
  return entry.type != "Apple_partition_map" && entry.type != "Apple_Free" &&
         entry.type != "Apple_Void" && entry.blocks != 0;
}

}  // namespace

std::optional<VolumeTable> read_apm(const SourcePtr& disk, std::uint32_t sector_size,
                                    const Context& context) {
  const std::uint32_t recorded = block_bytes(*disk, 0);
  const std::uint32_t step = step_of_entries(*disk, 0, recorded != 0 ? recorded : sector_size);
  if (step == 0) return std::nullopt;
  if (recorded == 0)
    context.report(FindingCode::apm_driver_record, Severity::damage, {0, kRecordBytes},
                   "the driver record of the partition map is lost",
                   fmt::format("blocks of {} bytes are taken", step));
  VolumeTable table;
  table.sector_size = step;
  const std::uint32_t count = read_entry(*disk, step)->count;
  for (std::uint32_t i = 1; i <= std::min(count, kMaxEntries); ++i) {
    context.check_cancelled();
    const std::uint64_t at = std::uint64_t{i} * step;
    const auto entry = read_entry(*disk, at);
    if (!entry) {
      context.report(FindingCode::apm_entry, Severity::damage, {at, kRecordBytes},
                     fmt::format("entry {} of the partition map is lost", i),
                     "the others are used");
      continue;
    }
    if (!is_volume(*entry)) continue;
    VolumeRow row;
    row.number = i;
    // Factors below 2^32 and 2^13: no overflow.
    row.range = {entry->first * step, entry->blocks * step};
    row.type = row.type_code = entry->type;
    row.name = entry->name;
    row.system = is_system(entry->type);
    if (row.range.end() > disk->size())
      context.report(FindingCode::apm_past_end, Severity::warning, row.range,
                     fmt::format("volume {} ends {} bytes past the end of the disk", i,
                                 row.range.end() - disk->size()),
                     "what is on the disk is read; the rest is treated as unreadable");
    table.rows.push_back(std::move(row));
  }
  report_overlaps(table, FindingCode::apm_overlap, context);
  return table;
}

std::optional<Recognition> probe_apm(const ByteSource& source, std::uint64_t at) {
  const std::uint32_t recorded = block_bytes(source, at);
  if (recorded != 0 && step_of_entries(source, at, recorded) == 0) return std::nullopt;
  Recognition found;
  found.title = "partition table (APM)";
  found.range = {at, kRecordBytes};
  if (recorded == 0) {
    // The map alone: it begins with its own entry.
    const auto entry = read_entry(source, at);
    if (!entry || entry->first != 1 || at < kRecordBytes) return std::nullopt;
    found.range = {at - kRecordBytes, kRecordBytes};
    found.from_copy = true;
  }
  found.verified = true;
  return found;
}

}  // namespace lantern
