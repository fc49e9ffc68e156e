// FAT boot sector. Microsoft FAT specification (fatgen103) / ECMA-107. Little-endian.
//   11  2  bytes per sector: 512 1024 2048 4096     | else: not FAT
//   13  1  sectors per cluster, a power of two      | else: not FAT
//   14  2  reserved sectors, at least 1             | else: not FAT
//   16  1  number of tables, 1 or 2
//   17  2  root entries (FAT32: 0)
//   19  2  sectors, or 0 and: 32  4  sectors
//   21  1  media, F0 or F8-FF                       | must be the first byte of the table too
//   22  2  sectors of one table, or 0 and (FAT32): 36  4
//   40  2  FAT32: bit 7 set: only table (bits 0-3) is kept
//   44  4  FAT32: first cluster of the root folder
//   50  2  FAT32: sector of the spare boot sector
//   39 (67 on FAT32)  4  serial    43 (71)  11  label
// FAT32 when the 16-bit table size is 0; else FAT12 below 4085 clusters; else FAT16.
#pragma once

#include <cstdint>
#include <optional>
#include <string>

#include "base/bytes.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern::fat {

enum class Width { fat12 = 12, fat16 = 16, fat32 = 32 };

struct Geometry {
  Width width{};
  std::uint32_t sector_bytes = 0;
  std::uint32_t cluster_bytes = 0;
  std::uint64_t table_offset = 0;  // bytes, of the first table
  std::uint64_t table_bytes = 0;   // of one table
  std::uint32_t table_count = 0;
  std::optional<std::uint32_t> only_table;  // FAT32 with mirroring off
  std::uint64_t root_offset = 0;            // FAT12/16
  std::uint64_t root_bytes = 0;             // FAT12/16
  std::uint32_t root_cluster = 0;           // FAT32
  std::uint64_t data_offset = 0;
  std::uint32_t cluster_count = 0;
  std::uint64_t volume_bytes = 0;
  std::uint8_t media = 0;
  std::uint32_t serial = 0;
  std::string label;  // code page bytes, blanks at the end taken off

  bool operator==(const Geometry&) const = default;
  bool valid_cluster(std::uint32_t cluster) const {
    return cluster >= 2 && cluster - 2 < cluster_count;
  }
  std::uint64_t cluster_offset(std::uint32_t cluster) const {
    return data_offset + std::uint64_t{cluster - 2} * cluster_bytes;
  }
};

// Empty when these 512 bytes are no FAT boot sector.
std::optional<Geometry> parse_boot_sector(ByteView sector);

// The first boot sector, or on FAT32 its spare when the first is corrupt.
std::optional<Geometry> find_geometry(const ByteSource& volume, const Context& context);

}  // namespace lantern::fat
