#include "filesystem/exfat/boot.h"

#include "base/store.h"

#include <fmt/format.h>

#include <array>

namespace lantern::exfat {
namespace {

constexpr std::uint64_t kRegionSectors = 12;

}  // namespace

std::optional<Geometry> parse_boot_sector(ByteView sector) {
  if (!has_text(sector, 3, "EXFAT   ") || !has_boot_mark(sector)) return std::nullopt;
  const unsigned sector_shift = u8(sector, 0x6C);
  const unsigned cluster_shift = u8(sector, 0x6D);
  const unsigned tables = u8(sector, 0x6E);
  if (sector_shift < 9 || sector_shift > 12 || cluster_shift > 25 - sector_shift || tables < 1 ||
      tables > 2)
    return std::nullopt;
  Geometry g;
  g.sector_bytes = 1u << sector_shift;
  g.cluster_bytes = std::uint64_t{1} << (sector_shift + cluster_shift);
  g.second_fat = tables == 2 && (le16(sector, 0x6A) & 1) != 0;
  g.table_bytes = std::uint64_t{le32(sector, 0x54)} << sector_shift;
  g.table_offset =
      (std::uint64_t{le32(sector, 0x50)} << sector_shift) + (g.second_fat ? g.table_bytes : 0);
  g.heap_offset = std::uint64_t{le32(sector, 0x58)} << sector_shift;
  g.cluster_count = le32(sector, 0x5C);
  g.root_cluster = le32(sector, 0x60);
  g.serial = le32(sector, 0x64);
  const std::uint64_t sectors = le64(sector, 0x48);
  if (sectors >> (63 - sector_shift) != 0 || g.cluster_count == 0 || g.cluster_count > 0xFFFFFFF5 ||
      !g.valid_cluster(g.root_cluster) || g.heap_offset == 0 || g.table_offset == 0 ||
      g.table_bytes / 4 < std::uint64_t{g.cluster_count} + 2)
    return std::nullopt;
  g.volume_bytes = sectors << sector_shift;
  return g;
}

std::uint32_t boot_sum(ByteView region) {
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i < region.size(); ++i) {
    // Flags and the share in use change without the sum.
    if (i == 0x6A || i == 0x6B || i == 0x70) continue;
    sum = ((sum & 1) << 31 | sum >> 1) + u8(region, i);
  }
  return sum;
}

void store_boot_sum(Bytes& region, std::size_t sector_bytes) {
  const std::size_t summed = region.size() - sector_bytes;
  const std::uint32_t sum = boot_sum(ByteView(region).first(summed));
  for (std::size_t at = summed; at < region.size(); at += 4) store_le32(region, at, sum);
}

bool sum_is_right(const ByteSource& volume, std::uint64_t at, std::uint32_t sector_bytes) {
  Bytes region(kRegionSectors * sector_bytes);
  const ReadResult got = volume.read(at, region);
  if (got.length < region.size() || !got.unreadable.empty()) return false;
  const std::size_t summed = region.size() - sector_bytes;
  return le32(region, summed) == boot_sum(ByteView(region).first(summed));
}

std::optional<Geometry> find_geometry(const ByteSource& volume, const Context& context) {
  Bytes sector(kSector);
  std::optional<Geometry> own;
  if (volume.read(0, sector).length == sector.size()) own = parse_boot_sector(sector);
  if (own && sum_is_right(volume, 0, own->sector_bytes)) return own;
  for (const std::uint32_t size : {512u, 1024u, 2048u, 4096u}) {
    const std::uint64_t at = kRegionSectors * size;
    if (volume.read(at, sector).length < sector.size()) continue;
    const auto copy = parse_boot_sector(sector);
    if (!copy || copy->sector_bytes != size || !sum_is_right(volume, at, size)) continue;
    context.report(FindingCode::exfat_boot, Severity::damage, {0, kRegionSectors * size},
                   own ? "the checksum of the boot region is wrong" : "there is no boot sector",
                   fmt::format("the copy at byte {} is used", at));
    return copy;
  }
  if (own)
    context.report(FindingCode::exfat_boot, Severity::damage, {0, kSector},
                   "the checksum of the boot region is wrong, and no copy is right",
                   "it is read as it is");
  return own;
}

}  // namespace lantern::exfat
