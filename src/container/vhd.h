// VHD: a virtual disk in blocks, version 1.0. Big-endian; offsets in bytes.
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

#include <optional>
#include <string>

#include "lantern/container.h"

namespace lantern {

// Empty when `file` is not a VHD. Throws Error{cannot_read, unsupported}.
std::optional<Container> open_vhd(const SourcePtr& file, const Surroundings& around,
                                  const Context& context);

// What the block table of a dynamic disk tells of its dynamic header.
struct VhdShape {
  std::uint64_t header_offset = 0;  // bytes, by the footer
  std::uint64_t table_offset = 0;
  std::uint64_t entry_count = 0;
  std::uint64_t block_bytes = 0;
};
// Empty when it is no dynamic disk, and when there is no such table.
std::optional<VhdShape> vhd_shape(const SourcePtr& file);

std::optional<std::string> vhd_identity(const ByteSource& file);

}  // namespace lantern
