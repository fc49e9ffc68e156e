#include "filesystem/fat/boot_sector.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/checked.h"
#include "filesystem/fat/fit.h"

namespace lantern::fat {
namespace {

constexpr std::size_t kSectorBytes = 512;
constexpr std::uint32_t kEntryBytes = 32;
constexpr std::uint32_t kMaxClusterBytes = 512 * 1024;
constexpr std::array<std::uint64_t, 4> kSpareAt = {6ull * 512, 6ull * 4096, 6ull * 1024,
                                                   6ull * 2048};

bool known_media(std::uint8_t media) {
  return media == 0xF0 || media >= 0xF8;
}

// The first byte of the table repeats the media byte: the strongest proof that a boot sector
// belongs to what lies behind it.
bool table_agrees(const Geometry& geometry, const ByteSource& volume) {
  for (std::uint32_t i = 0; i < geometry.table_count; ++i) {
    Bytes first(4);
    volume.read(geometry.table_offset + i * geometry.table_bytes, first);
    if (u8(first, 0) == geometry.media && u8(first, 1) == 0xFF) return true;
  }
  return false;
}

std::optional<Geometry> read_at(const ByteSource& volume, std::uint64_t offset) {
  Bytes sector(kSectorBytes);
  const ReadResult got = volume.read(offset, sector);
  if (got.length < sector.size()) return std::nullopt;
  return parse_boot_sector(sector);
}

}  // namespace

std::optional<Geometry> parse_boot_sector(ByteView sector) {
  Geometry g;
  g.sector_bytes = le16(sector, 11);
  const std::uint32_t sectors_per_cluster = u8(sector, 13);
  const std::uint32_t reserved = le16(sector, 14);
  g.table_count = u8(sector, 16);
  const std::uint32_t root_entries = le16(sector, 17);
  const std::uint64_t sectors = le16(sector, 19) != 0 ? le16(sector, 19) : le32(sector, 32);
  g.media = u8(sector, 21);
  const std::uint32_t short_table = le16(sector, 22);
  const bool wide = short_table == 0;
  const std::uint64_t table_sectors = wide ? le32(sector, 36) : short_table;

  if (!is_power_of_two(g.sector_bytes) || g.sector_bytes < 512 || g.sector_bytes > 4096)
    return std::nullopt;
  g.cluster_bytes = g.sector_bytes * sectors_per_cluster;
  if (!is_power_of_two(sectors_per_cluster) || g.cluster_bytes > kMaxClusterBytes)
    return std::nullopt;
  if (reserved == 0 || g.table_count == 0 || g.table_count > 4 || !known_media(g.media))
    return std::nullopt;
  if (sectors == 0 || table_sectors == 0 || (wide && root_entries != 0)) return std::nullopt;

  // At most 2^32 sectors of 2^12 bytes: nothing below overflows.
  const std::uint64_t root_sectors =
      divide_up(std::uint64_t{root_entries} * kEntryBytes, g.sector_bytes);
  const std::uint64_t data_sector = reserved + g.table_count * table_sectors + root_sectors;
  if (data_sector >= sectors) return std::nullopt;
  const std::uint64_t clusters = (sectors - data_sector) / sectors_per_cluster;
  if (clusters == 0 || clusters > 0x0FFFFFF5) return std::nullopt;

  g.width = wide ? Width::fat32 : clusters < 4085 ? Width::fat12 : Width::fat16;
  g.table_offset = std::uint64_t{reserved} * g.sector_bytes;
  g.table_bytes = table_sectors * g.sector_bytes;
  // A table too small for its volume holds only the clusters it has entries for.
  const std::uint64_t table_entries = g.table_bytes * 8 / static_cast<unsigned>(g.width);
  if (table_entries <= 2) return std::nullopt;
  g.cluster_count = static_cast<std::uint32_t>(std::min(clusters, table_entries - 2));
  g.root_offset = g.table_offset + g.table_count * g.table_bytes;
  g.root_bytes = std::uint64_t{root_entries} * kEntryBytes;
  g.data_offset = data_sector * g.sector_bytes;
  g.volume_bytes = sectors * g.sector_bytes;
  if (wide) {
    g.root_cluster = le32(sector, 44) & 0x0FFFFFFF;
    const std::uint32_t flags = le16(sector, 40);
    if ((flags & 0x80) != 0 && (flags & 0x0F) < g.table_count) g.only_table = flags & 0x0F;
  } else if (root_entries == 0) {
    return std::nullopt;
  }
  const std::size_t tail = wide ? 64 : 36;
  const std::uint8_t extended = u8(sector, tail + 2);
  if (extended == 0x28 || extended == 0x29) g.serial = le32(sector, tail + 3);
  if (extended == 0x29) {
    g.label = text_of(slice(sector, tail + 7, 11));
    while (!g.label.empty() && (g.label.back() == ' ' || g.label.back() == '\0'))
      g.label.pop_back();
    if (g.label == "NO NAME") g.label.clear();
  }
  return g;
}

std::optional<Geometry> find_geometry(const ByteSource& volume, const Context& context) {
  std::optional<Geometry> first = read_at(volume, 0);
  const unsigned points = first ? fit(*first, volume).points : 0;
  for (const std::uint64_t offset : kSpareAt) {
    std::optional<Geometry> spare = read_at(volume, offset);
    if (!spare || spare->width != Width::fat32 || spare == first || !table_agrees(*spare, volume) ||
        fit(*spare, volume).points <= points)
      continue;
    context.report(FindingCode::fat_boot_sector, Severity::damage, {0, kSectorBytes},
                   first ? "the boot sector does not fit what follows it"
                         : "the boot sector is not readable as one",
                   fmt::format("its spare copy at byte {} is used", offset));
    return spare;
  }
  if (!first) return std::nullopt;
  if (!table_agrees(*first, volume))
    context.report(FindingCode::fat_boot_sector, Severity::damage, {first->table_offset, 4},
                   "the first entry of the table does not repeat the media byte",
                   "the boot sector is used as it is");
  return first;
}

}  // namespace lantern::fat
