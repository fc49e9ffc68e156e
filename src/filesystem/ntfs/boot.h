// The boot sector of NTFS. Little-endian, offsets in bytes.
//   3 "NTFS    "  0x0B 2 bytes of a sector  0x0D 1 sectors of a cluster; above 0x80 minus a power
//   of two  0x28 8 sectors of the volume, without the copy of this one  0x30 8 cluster of the file
//   table  0x38 8 cluster of its mirror  0x40 1 clusters of a record, 0x44 1 of an index buffer;
//   negative: minus a power of two, of bytes  0x48 8 serial number  0x1FE AA55
// A copy lies in the sector behind the volume, the last of its partition.
// Source: the Linux kernel's documentation and headers of NTFS.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "lantern/byte_source.h"

namespace lantern::ntfs {

struct Geometry {
  std::uint32_t sector_bytes = 512;  // 256 to 4096
  std::uint64_t cluster_bytes = 0;   // power of two, up to 2 MiB
  std::uint64_t volume_bytes = 0;
  std::uint64_t table_cluster = 0;  // of $MFT
  std::uint64_t mirror_cluster = 0;
  std::uint32_t record_bytes = 1024;  // power of two, 512 to 64 KiB
  std::uint32_t index_bytes = 4096;   // of an index buffer, the same
  std::uint64_t serial = 0;
  std::uint64_t place = 0;  // of the boot sector it was read from, bytes

  std::uint64_t cluster_count() const { return volume_bytes / cluster_bytes; }
};

// Empty when these 512 bytes are not a valid NTFS boot sector. `place`: where they lie, bytes.
std::optional<Geometry> parse_boot_sector(ByteView sector, std::uint64_t place = 0);

// Boot sectors that can be: the first sector, then copies at the end of the volume and in its
// middle, where older systems kept it.
std::vector<Geometry> find_geometries(const ByteSource& volume);

// By figures given instead, in bytes: "table", where the file table begins, has to be there;
// "sector", "cluster" and "record" are else the usual ones. None where they cannot be.
std::vector<Geometry> geometry_by_hand(const std::map<std::string, std::uint64_t>& figures,
                                       std::uint64_t volume_bytes);

}  // namespace lantern::ntfs
