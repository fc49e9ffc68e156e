// Where the figures of a VHD stand, and how its structures are summed. Big-endian; offsets in
// bytes.
//   footer, last 512 bytes (511 by old writers); dynamic kinds keep a copy in the first 512
//     0x00 8 "conectix"   0x10 8 offset of the dynamic header   0x30 8 size of the disk
//     0x3C 4 kind: 2 fixed, 3 dynamic, 4 differencing
//     0x40 4 checksum: ones' complement of the sum of the bytes | else: the other copy
//     0x44 16 id
//   dynamic header, 1024 bytes, most often at 512
//     0x00 8 "cxsparse"   0x10 8 offset of the block table   0x1C 4 entries   0x20 4 block size
//     0x24 4 checksum   0x28 16 id of the parent   0x38 4 time of the parent, from 2000
//     0x40 512 name of the parent, UTF-16   0x240 8 parent locators of 24
//   block table entry (4): FFFFFFFF not stored, else the sector of the block: a bitmap of its
//   sectors (bit 7 first; whole sectors), then its data. In a differencing disk a sector whose bit
//   is 0 is the parent's; in a dynamic one the bitmap is not needed and not trusted.
// Source: Virtual Hard Disk Image Format Specification (Microsoft, open specification promise).
#pragma once

#include <algorithm>
#include <string_view>

#include "base/bytes.h"

namespace lantern::vhd {

constexpr std::size_t kFooterBytes = 512;
constexpr std::size_t kHeaderBytes = 1024;
constexpr std::uint64_t kMaxDisk = 2040ull << 30;
constexpr std::uint32_t kVersion = 0x00010000;
constexpr std::uint32_t kFixed = 2;
constexpr std::uint32_t kDynamic = 3;
constexpr std::uint32_t kDifferencing = 4;
constexpr std::uint32_t kNotStored = 0xFFFFFFFF;  // in the block table

namespace footer {
constexpr std::string_view kMark = "conectix";
constexpr std::size_t kFeaturesAt = 0x08;  // 2: always set
constexpr std::size_t kVersionAt = 0x0C;
constexpr std::size_t kHeaderOffsetAt = 0x10;
constexpr std::size_t kMakerAt = 0x1C;
constexpr std::size_t kMakerVersionAt = 0x20;
constexpr std::size_t kFirstBytesAt = 0x28;  // size of the disk when it was made
constexpr std::size_t kDiskBytesAt = 0x30;
constexpr std::size_t kGeometryAt = 0x38;
constexpr std::size_t kKindAt = 0x3C;
constexpr std::size_t kSumAt = 0x40;
constexpr std::size_t kIdAt = 0x44;
}  // namespace footer

namespace header {
constexpr std::string_view kMark = "cxsparse";
constexpr std::size_t kNextAt = 0x08;  // unused, all ones
constexpr std::size_t kTableOffsetAt = 0x10;
constexpr std::size_t kVersionAt = 0x18;
constexpr std::size_t kEntryCountAt = 0x1C;
constexpr std::size_t kBlockBytesAt = 0x20;
constexpr std::size_t kSumAt = 0x24;
constexpr std::size_t kParentIdAt = 0x28;
constexpr std::size_t kParentTimeAt = 0x38;
constexpr std::size_t kParentNameAt = 0x40;
constexpr std::size_t kParentNameBytes = 512;
constexpr std::size_t kLocatorsAt = 0x240;
constexpr std::size_t kLocatorBytes = 24;
constexpr std::size_t kLocators = 8;
}  // namespace header

// Cylinders, heads and sectors of a track, as the specification's appendix works them out.
inline std::uint32_t geometry(std::uint64_t disk_bytes) {
  constexpr std::uint64_t kMax = 65535ull * 16 * 255;
  const std::uint64_t sectors = std::min(disk_bytes / kSector, kMax);
  std::uint64_t per_track = 255;
  std::uint64_t heads = 16;
  std::uint64_t tracks = sectors / per_track;
  if (sectors < 65535ull * 16 * 63) {
    per_track = 17;
    tracks = sectors / per_track;
    heads = std::max<std::uint64_t>((tracks + 1023) / 1024, 4);
    if (tracks >= heads * 1024 || heads > 16) {
      per_track = 31;
      heads = 16;
      tracks = sectors / per_track;
    }
    if (tracks >= heads * 1024) {
      per_track = 63;
      tracks = sectors / per_track;
    }
  }
  const std::uint64_t cylinders = tracks / heads;
  return static_cast<std::uint32_t>(cylinders << 16 | heads << 8 | per_track);
}

// The sum of a structure, with that in it at `field` left out.
inline std::uint32_t checksum(ByteView bytes, std::size_t field) {
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i < bytes.size(); ++i)
    if (i < field || i >= field + 4) sum += u8(bytes, i);
  return ~sum;
}

inline bool is_summed(ByteView bytes, std::string_view mark, std::size_t field) {
  return bytes.size() >= field + 4 && has_text(bytes, 0, mark) &&
         checksum(bytes, field) == be32(bytes, field);
}

}  // namespace lantern::vhd
