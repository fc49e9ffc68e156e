// exFAT boot region, twelve sectors and a copy behind them. Little-endian.
//   0x03 8 "EXFAT   "  0x48 8 sectors  0x50 4 FAT's sector  0x54 4 its sectors  0x58 4 sector of
//   cluster 2  0x5C 4 clusters  0x60 4 root folder's cluster  0x64 4 serial  0x6A 2 flags: 1 the
//   second FAT counts  0x6C 1 log2(sector bytes), 9 to 12  0x6D 1 log2(sectors of a cluster)
//   0x6E 1 FATs  0x1FE 2 AA55; sector 11: the sum over the other eleven, again and again
//   | wrong: the copy is used
// Source: exFAT file system specification, 3.
#pragma once

#include <cstdint>
#include <optional>

#include "base/bytes.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern::exfat {

struct Geometry {
  std::uint32_t sector_bytes = 0;
  std::uint64_t cluster_bytes = 0;
  std::uint64_t table_offset = 0;  // bytes, of the FAT that counts
  std::uint64_t table_bytes = 0;
  std::uint64_t heap_offset = 0;  // bytes, of cluster 2
  std::uint32_t cluster_count = 0;
  std::uint32_t root_cluster = 0;
  std::uint32_t serial = 0;
  bool second_fat = false;  // TexFAT: the second FAT and bitmap count
  std::uint64_t volume_bytes = 0;

  bool valid_cluster(std::uint32_t cluster) const {
    return cluster >= 2 && cluster - 2 < cluster_count;
  }
  std::uint64_t cluster_offset(std::uint32_t cluster) const {
    return heap_offset + std::uint64_t{cluster - 2} * cluster_bytes;
  }
};

// Empty when these 512 bytes are not a valid exFAT boot sector.
std::optional<Geometry> parse_boot_sector(ByteView sector);

// Of a boot region without its last sector, which the sum fills.
std::uint32_t boot_sum(ByteView region);
// Puts it there.
void store_boot_sum(Bytes& region, std::size_t sector_bytes);

// Whether the twelve sectors of a boot region at a byte have the sum they record.
bool sum_is_right(const ByteSource& volume, std::uint64_t at, std::uint32_t sector_bytes);

// Empty when the volume is no exFAT.
std::optional<Geometry> find_geometry(const ByteSource& volume, const Context& context);

}  // namespace lantern::exfat
