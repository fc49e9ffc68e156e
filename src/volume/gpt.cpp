#include "volume/gpt.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/bytes.h"
#include "base/checked.h"
#include "base/guid.h"
#include "base/utf16.h"
#include "lantern/text.h"
#include "volume/gpt_layout.h"
#include "volume/mbr.h"
#include "volume/overlaps.h"
#include "volume/partition_types.h"

namespace lantern {
namespace {

using namespace gpt;

struct Header {
  std::uint64_t own_lba = 0;
  std::uint64_t other_lba = 0;
  std::string disk_guid;
  std::uint64_t entries_lba = 0;
  std::uint32_t entry_count = 0;
  std::uint32_t entry_bytes = 0;
  std::uint32_t entries_crc = 0;
};

// One of the two copies, and how much of it can be trusted.
struct Copy {
  std::string_view name;  // "primary" or "backup"
  Range header_place;
  std::optional<Header> header;  // present: it can be used
  Bytes entries;                 // empty: not readable
  bool entries_good = false;     // their checksum matches
  std::string wrong;             // what is wrong with the header, or empty
  bool signature = false;
};

class GptReader {
 public:
  GptReader(const SourcePtr& disk, std::uint32_t sector_size, const Context& context)
      : disk_(disk), sector_size_(sector_size), context_(context) {}

  std::optional<VolumeTable> read() {
    if (disk_->size() < 3ull * sector_size_) return std::nullopt;
    const std::uint64_t last_lba = disk_->size() / sector_size_ - 1;
    Copy primary = read_copy("primary", 1);
    Copy backup = read_copy("backup", last_lba);
    // A disk made larger, or an image cut short, has its backup elsewhere: the primary says where.
    if (!backup.signature && primary.header && primary.header->other_lba != last_lba) {
      context_.report(FindingCode::gpt_disk_size, Severity::warning,
                      {last_lba * sector_size_, sector_size_},
                      primary.header->other_lba > last_lba
                          ? fmt::format("the table was made for a disk of {} sectors, this has {}",
                                        primary.header->other_lba + 1, last_lba + 1)
                          : "the backup header is not in the last sector: the disk was made larger",
                      "the primary copy is used");
      if (primary.header->other_lba < last_lba && primary.header->other_lba > 1)
        backup = read_copy("backup", primary.header->other_lba);
    }
    if (!primary.signature && !backup.signature) return std::nullopt;
    report_hurt(primary, backup, FindingCode::gpt_primary_header, FindingCode::gpt_primary_entries);
    report_hurt(backup, primary, FindingCode::gpt_backup_header, FindingCode::gpt_backup_entries);

    const Copy* used = choose(primary, backup);
    if (used == nullptr) return std::nullopt;
    if (primary.entries_good && backup.entries_good && primary.entries != backup.entries)
      context_.report(FindingCode::gpt_copies_differ, Severity::warning, backup.header_place,
                      "both copies of the table are sound and say different things",
                      "the primary copy is used");
    if (!has_protective_entry(disk_))
      context_.report(FindingCode::gpt_no_protective, Severity::warning, {0, 512},
                      "sector 0 has no protective entry for the GPT", "the GPT is used");
    VolumeTable table = table_of(*used);
    report_hybrid(table);
    return table;
  }

 private:
  // An MBR that names volumes beside its protective entry: systems without GPT use those.
  void report_hybrid(const VolumeTable& table) {
    const std::vector<VolumeRow> others = entries_beside_protective(disk_, sector_size_);
    if (others.empty()) return;
    std::string same, alone;
    for (const VolumeRow& other : others) {
      const auto twin =
          std::find_if(table.rows.begin(), table.rows.end(),
                       [&](const VolumeRow& row) { return row.range == other.range; });
      std::string& text = twin == table.rows.end() ? alone : same;
      if (!text.empty()) text += ", ";
      text += twin == table.rows.end()
                  ? fmt::format("entry {} ({}, from byte {})", other.number, other.type,
                                other.range.offset)
                  : fmt::format("entry {} is volume {}", other.number, twin->number);
    }
    if (!same.empty())
      context_.report(FindingCode::table_hybrid, Severity::note, {0, 512},
                      "the MBR names volumes of the GPT as well: " + same, "the GPT is used");
    if (!alone.empty())
      context_.report(FindingCode::table_hybrid, Severity::warning, {0, 511},
                      "the MBR names what the GPT does not: " + alone,
                      "the GPT is used; at= opens what begins there");
  }

  Copy read_copy(std::string_view name, std::uint64_t lba) {
    Copy copy;
    copy.name = name;
    copy.header_place = {lba * sector_size_, kMinHeaderBytes};
    Bytes sector(sector_size_);
    if (disk_->read(lba * sector_size_, sector).length < sector.size()) return copy;
    copy.signature = has_text(sector, 0, kSignature);
    if (!copy.signature) {
      copy.wrong = "has no signature";
      return copy;
    }
    const auto sum = header_sum(sector);
    if (!sum) {
      copy.wrong = fmt::format("says it is {} bytes long", le32(sector, kHeaderBytesAt));
      return copy;
    }
    if (*sum != le32(sector, kSumAt)) {
      copy.wrong = "has a wrong checksum";
      return copy;
    }
    Header header{le64(sector, kOwnAt),         le64(sector, kOtherAt),
                  guid_text(sector, kDiskIdAt), le64(sector, kEntriesAt),
                  le32(sector, kEntryCountAt),  le32(sector, kEntryBytesAt),
                  le32(sector, kEntriesSumAt)};
    if (header.own_lba != lba) {
      copy.wrong = fmt::format("says it is in sector {}", header.own_lba);
      return copy;
    }
    const std::uint64_t bytes = entries_bytes(sector);
    if (header.entry_bytes < entry::kMinBytes || !is_power_of_two(header.entry_bytes) ||
        bytes > context_.budget.max_structure_bytes) {
      copy.wrong =
          fmt::format("says it has {} entries of {} bytes", header.entry_count, header.entry_bytes);
      return copy;
    }
    copy.header = header;
    read_entries(copy, static_cast<std::size_t>(bytes));
    return copy;
  }

  void read_entries(Copy& copy, std::size_t bytes) {
    const auto offset = checked_mul(copy.header->entries_lba, sector_size_);
    if (!offset || *offset > disk_->size() || bytes > disk_->size() - *offset) return;
    copy.entries.resize(bytes);
    disk_->read(*offset, copy.entries);
    copy.entries_good = crc(copy.entries) == copy.header->entries_crc;
  }

  void report_hurt(const Copy& copy, const Copy& other, FindingCode header_code,
                   FindingCode entries_code) {
    const std::string instead = other.entries_good ? fmt::format("the {} copy is used", other.name)
                                                   : "what can be read of it is used";
    if (!copy.header)
      context_.report(header_code, Severity::damage, copy.header_place,
                      fmt::format("the {} GPT header {}", copy.name, copy.wrong), instead);
    else if (!copy.entries_good)
      context_.report(
          entries_code, Severity::damage,
          {saturating_offset(copy.header->entries_lba), copy.entries.size()},
          fmt::format("the entries of the {} GPT {}", copy.name,
                      copy.entries.empty() ? "are outside the disk" : "have a wrong checksum"),
          instead);
  }

  std::uint64_t saturating_offset(std::uint64_t lba) const {
    return checked_mul(lba, sector_size_).value_or(disk_->size());
  }

  // The primary when it is sound; else the backup; else whichever has entries at all.
  static const Copy* choose(const Copy& primary, const Copy& backup) {
    for (const Copy* copy : {&primary, &backup})
      if (copy->entries_good) return copy;
    for (const Copy* copy : {&primary, &backup})
      if (!copy->entries.empty()) return copy;
    return nullptr;
  }

  VolumeTable table_of(const Copy& copy) {
    VolumeTable table;
    table.sector_size = sector_size_;
    table.id = copy.header->disk_guid;
    const std::uint32_t step = copy.header->entry_bytes;
    for (std::uint32_t i = 0; i < copy.header->entry_count; ++i) {
      const ByteView row_bytes = slice(copy.entries, std::size_t{i} * step, entry::kMinBytes);
      if (all_zero(row_bytes.first(entry::kIdBytes))) continue;
      const std::uint64_t first = le64(row_bytes, entry::kFirstAt);
      const std::uint64_t last = le64(row_bytes, entry::kLastAt);
      const auto offset = checked_mul(first, sector_size_);
      const auto length =
          last >= first ? checked_mul(last - first + 1, sector_size_) : std::nullopt;
      if (!offset || !length || last - first == ~std::uint64_t{0} || *offset >= disk_->size()) {
        context_.report(
            FindingCode::gpt_past_end, Severity::damage,
            {saturating_offset(copy.header->entries_lba) + std::uint64_t{i} * step, step},
            fmt::format("entry {} runs from sector {} to {}: not on this disk", i + 1, first, last),
            "the entry is left out");
        continue;
      }
      const std::string type_guid = guid_text(row_bytes, entry::kTypeAt);
      const PartitionType type = gpt_type(type_guid);
      VolumeRow row;
      row.number = i + 1;
      row.range = {*offset, *length};
      row.type = type.words;
      row.type_code = type_guid;
      row.name = utf16le_text(slice(row_bytes, entry::kNameAt, entry::kNameBytes));
      row.uuid = guid_text(row_bytes, entry::kIdAt);
      row.active = (le64(row_bytes, entry::kAttributesAt) & entry::kLegacyBoot) != 0;
      row.system = type.system;
      if (row.range.end() > disk_->size())
        context_.report(FindingCode::gpt_past_end, Severity::warning, row.range,
                        fmt::format("volume {} ends {} bytes past the end of the disk", row.number,
                                    row.range.end() - disk_->size()),
                        "what is on the disk is read; the rest is treated as unreadable");
      table.rows.push_back(std::move(row));
    }
    report_overlaps(table, FindingCode::gpt_overlap, context_);
    return table;
  }

  SourcePtr disk_;
  std::uint32_t sector_size_;
  const Context& context_;
};

}  // namespace

std::optional<VolumeTable> read_gpt(const SourcePtr& disk, std::uint32_t sector_size,
                                    const Context& context) {
  return GptReader(disk, sector_size, context).read();
}

}  // namespace lantern
