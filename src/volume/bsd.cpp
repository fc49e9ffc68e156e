#include "volume/bsd.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/bytes.h"
#include "base/checked.h"
#include "lantern/text.h"
#include "volume/overlaps.h"

namespace lantern {
namespace {

constexpr std::uint32_t kMagic = 0x82564557;
constexpr std::size_t kEntriesAt = 148, kEntryBytes = 16;
constexpr std::size_t kMaxEntries = 22;  // that have room in a sector; systems make 8 or 16
constexpr std::size_t kWholeEntry = 2;   // "c"
constexpr std::size_t kInSectorZero = 64;

struct Entry {
  std::uint64_t sectors = 0, first = 0;
  std::uint8_t kind = 0;
};

struct Label {
  std::uint64_t place = 0;  // byte of the source
  std::uint32_t sector_bytes = 0;
  bool sum_is_right = false;
  std::string disk_name;
  std::vector<Entry> entries;
};

std::optional<Label> read_label(const ByteSource& source, std::uint64_t at) {
  Bytes bytes(kSector);
  if (source.read(at, bytes).length < bytes.size()) return std::nullopt;
  const bool big = be32(bytes, 0) == kMagic;
  if (!big && le32(bytes, 0) != kMagic) return std::nullopt;
  const auto number = [&](std::size_t place) {
    return big ? be32(bytes, place) : le32(bytes, place);
  };
  const auto half = [&](std::size_t place) {
    return big ? be16(bytes, place) : le16(bytes, place);
  };
  const std::size_t count = half(138);
  if (number(132) != kMagic || count == 0 || count > kMaxEntries) return std::nullopt;
  Label label;
  label.place = at;
  label.sector_bytes = number(40);
  if (label.sector_bytes < kSector || label.sector_bytes > 4096 ||
      !is_power_of_two(label.sector_bytes))
    return std::nullopt;
  std::uint16_t sum = 0;
  for (std::size_t i = 0; i < kEntriesAt + count * kEntryBytes; i += 2)
    sum = static_cast<std::uint16_t>(sum ^ half(i));
  label.sum_is_right = sum == 0;
  label.disk_name = text_of(slice(bytes, 24, 16));
  label.disk_name = label.disk_name.substr(0, label.disk_name.find('\0'));
  for (std::size_t i = 0; i < count; ++i) {
    const std::size_t entry = kEntriesAt + i * kEntryBytes;
    label.entries.push_back({number(entry), number(entry + 4), u8(bytes, entry + 12)});
  }
  return label;
}

std::optional<Label> find_label(const ByteSource& disk, std::uint32_t sector_size) {
  for (const std::uint64_t place :
       {std::uint64_t{sector_size}, std::uint64_t{kInSectorZero}, std::uint64_t{0}})
    if (auto label = read_label(disk, place)) return label;
  return std::nullopt;
}

std::string kind_in_words(std::uint8_t kind) {
  constexpr std::array<std::pair<std::uint8_t, std::string_view>, 12> kKinds = {{{1, "BSD swap"},
                                                                                 {7, "4.2BSD"},
                                                                                 {8, "FAT"},
                                                                                 {9, "4.4LFS"},
                                                                                 {11, "HPFS"},
                                                                                 {12, "ISO 9660"},
                                                                                 {14, "Vinum"},
                                                                                 {15, "RAID"},
                                                                                 {17, "ext2"},
                                                                                 {18, "NTFS"},
                                                                                 {22, "UDF"},
                                                                                 {27, "ZFS"}}};
  for (const auto& [known, words] : kKinds)
    if (known == kind) return std::string(words);
  return "unknown type";
}

}  // namespace

std::optional<VolumeTable> read_bsd(const SourcePtr& disk, std::uint32_t sector_size,
                                    const Context& context) {
  const auto label = find_label(*disk, sector_size);
  if (!label) return std::nullopt;
  if (!label->sum_is_right)
    context.report(FindingCode::bsd_label, Severity::damage, {label->place, kSector},
                   "the checksum of the disklabel is wrong", "its entries are used as they are");
  VolumeTable table;
  table.sector_size = label->sector_bytes;
  // What entry c begins at is where the slice lies on the disk; of a slice that is opened by itself
  // places count from there.
  const std::uint64_t base =
      label->entries.size() > kWholeEntry ? label->entries[kWholeEntry].first : 0;
  for (std::size_t i = 0; i < label->entries.size(); ++i) {
    const Entry& entry = label->entries[i];
    if (i == kWholeEntry || entry.sectors == 0 || entry.kind == 0) continue;
    const std::uint64_t from = entry.first >= base ? entry.first - base : entry.first;
    VolumeRow row;
    row.number = i + 1;
    // Factors below 2^32 and 2^13: no overflow.
    row.range = {from * label->sector_bytes, entry.sectors * label->sector_bytes};
    row.type = kind_in_words(entry.kind);
    row.type_code = std::to_string(entry.kind);
    row.name = std::string(1, static_cast<char>('a' + i));
    row.system = entry.kind == 1;
    if (row.range.end() > disk->size())
      context.report(FindingCode::bsd_past_end, Severity::warning, row.range,
                     fmt::format("volume {} ({}) ends {} bytes past the end of the disk",
                                 row.number, row.name, row.range.end() - disk->size()),
                     "what is on the disk is read; the rest is treated as unreadable");
    table.rows.push_back(std::move(row));
  }
  report_overlaps(table, FindingCode::bsd_overlap, context);
  return table;
}

std::optional<Recognition> probe_bsd(const ByteSource& source, std::uint64_t at) {
  for (const std::uint64_t inside : {std::uint64_t{0}, std::uint64_t{kInSectorZero}}) {
    const auto label = read_label(source, at + inside);
    if (!label) continue;
    Recognition found;
    found.title = "partition table (BSD disklabel)";
    const bool in_second = inside == 0 && at >= kSector;
    found.range = {in_second ? at - kSector : at, kSector};
    found.verified = label->sum_is_right;
    found.label = label->disk_name;
    return found;
  }
  return std::nullopt;
}

}  // namespace lantern
