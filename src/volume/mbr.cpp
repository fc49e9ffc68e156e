#include "volume/mbr.h"

#include <fmt/format.h>

#include <array>
#include <set>

#include "base/bytes.h"
#include "volume/overlaps.h"
#include "volume/partition_types.h"

namespace lantern {
namespace {

constexpr std::size_t kRecordBytes = 512;
constexpr std::size_t kEntriesAt = 446;
constexpr std::size_t kEntryBytes = 16;
constexpr std::uint64_t kFirstLogical = 5;
constexpr std::uint8_t kProtective = 0xEE;
// More logical volumes than any system makes; a chain that goes on is damage.
constexpr std::size_t kMaxLogical = 1024;

struct RecordEntry {
  std::uint8_t status = 0;
  std::uint8_t type = 0;
  std::uint64_t first_lba = 0;
  std::uint64_t sectors = 0;
  bool used() const { return type != 0 && sectors != 0; }
  bool extended() const { return type == 0x05 || type == 0x0F || type == 0x85; }
};

using Record = std::array<RecordEntry, 4>;

std::optional<Record> read_record(const ByteSource& disk, std::uint64_t offset) {
  Bytes bytes(kRecordBytes);
  const ReadResult got = disk.read(offset, bytes);
  if (got.length < kRecordBytes || u8(bytes, 510) != 0x55 || u8(bytes, 511) != 0xAA)
    return std::nullopt;
  Record record;
  for (std::size_t i = 0; i < record.size(); ++i) {
    const ByteView entry = slice(bytes, kEntriesAt + i * kEntryBytes, kEntryBytes);
    record.at(i) = {u8(entry, 0), u8(entry, 4), le32(entry, 8), le32(entry, 12)};
    if ((record.at(i).status & 0x7F) != 0) return std::nullopt;
  }
  return record;
}

class MbrReader {
 public:
  MbrReader(const ByteSource& disk, std::uint32_t sector_size, const Context& context)
      : disk_(disk), sector_size_(sector_size), context_(context) {
    table_.sector_size = sector_size;
  }

  std::optional<VolumeTable> read() {
    const auto record = read_record(disk_, 0);
    if (!record) return std::nullopt;
    Bytes signature(4);
    disk_.read(440, signature);
    table_.id = fmt::format("{:08x}", le32(signature, 0));
    bool any = false;
    for (std::size_t i = 0; i < record->size(); ++i) {
      const RecordEntry& entry = record->at(i);
      if (!entry.used()) continue;
      any = true;
      if (!entry.extended()) add(i + 1, entry, 0);
    }
    for (const RecordEntry& entry : *record)
      if (entry.used() && entry.extended()) read_logical(entry.first_lba);
    if (!any) return std::nullopt;
    report_overlaps(table_, FindingCode::mbr_overlap, context_);
    return std::move(table_);
  }

 private:
  void add(std::uint64_t number, const RecordEntry& entry, std::uint64_t base_lba) {
    const PartitionType type = mbr_type(entry.type);
    VolumeRow row;
    row.number = number;
    // Both factors are below 2^34 and 2^13: no overflow.
    row.range = {(base_lba + entry.first_lba) * sector_size_, entry.sectors * sector_size_};
    row.type = type.words;
    row.type_code = fmt::format("0x{:02x}", entry.type);
    row.active = (entry.status & 0x80) != 0;
    row.system = type.system;
    if (row.range.end() > disk_.size())
      context_.report(FindingCode::mbr_past_end, Severity::warning, row.range,
                      fmt::format("volume {} ends {} bytes past the end of the disk", number,
                                  row.range.end() - disk_.size()),
                      "what is on the disk is read; the rest is treated as unreadable");
    table_.rows.push_back(std::move(row));
  }

  void read_logical(std::uint64_t extended_lba) {
    std::uint64_t record_lba = extended_lba;
    std::uint64_t number = kFirstLogical + logical_count_;
    while (true) {
      const Range place{record_lba * sector_size_, kRecordBytes};
      if (!records_seen_.insert(record_lba).second || records_seen_.size() > kMaxLogical) {
        context_.report(FindingCode::mbr_logical_loop, Severity::damage, place,
                        "the chain of logical volumes comes back to itself",
                        "the volumes before that are used");
        return;
      }
      const auto record = read_record(disk_, place.offset);
      if (!record) {
        context_.report(FindingCode::mbr_logical_broken, Severity::damage, place,
                        "the chain of logical volumes leads to a sector that is not a boot record",
                        "the volumes before that are used");
        return;
      }
      const RecordEntry* next = nullptr;
      for (const RecordEntry& entry : *record) {
        if (!entry.used()) continue;
        if (entry.extended()) {
          if (next == nullptr) next = &entry;
        } else {
          add(number++, entry, record_lba);
          ++logical_count_;
        }
      }
      if (next == nullptr) return;
      record_lba = extended_lba + next->first_lba;
    }
  }

  const ByteSource& disk_;
  std::uint32_t sector_size_;
  const Context& context_;
  VolumeTable table_;
  std::set<std::uint64_t> records_seen_;
  std::uint64_t logical_count_ = 0;
};

}  // namespace

std::optional<VolumeTable> read_mbr(const SourcePtr& disk, std::uint32_t sector_size,
                                    const Context& context) {
  return MbrReader(*disk, sector_size, context).read();
}

bool has_protective_entry(const SourcePtr& disk) {
  const auto record = read_record(*disk, 0);
  if (!record) return false;
  for (const RecordEntry& entry : *record)
    if (entry.type == kProtective) return true;
  return false;
}

std::vector<VolumeRow> entries_beside_protective(const SourcePtr& disk, std::uint32_t sector_size) {
  std::vector<VolumeRow> rows;
  const auto record = read_record(*disk, 0);
  if (!record) return rows;
  for (std::size_t i = 0; i < record->size(); ++i) {
    const RecordEntry& entry = record->at(i);
    if (!entry.used() || entry.type == kProtective) continue;
    VolumeRow row;
    row.number = i + 1;
    row.range = {entry.first_lba * sector_size, entry.sectors * sector_size};
    row.type = mbr_type(entry.type).words;
    rows.push_back(std::move(row));
  }
  return rows;
}

}  // namespace lantern
