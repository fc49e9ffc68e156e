// VDI: a virtual disk in blocks, version 1.1. Little-endian; offsets in bytes of the file.
//   0x040  4   BEDA107F                         | else: not this format
//   0x044  4   version, 0x00010001
//   0x048  4   header bytes from here
//   0x04C  4   kind: 1 dynamic, 2 fixed, 3 undo, 4 differencing
//   0x154  4   offset of the block map
//   0x158  4   offset of the data
//   0x168  4   sector size                      | not 512: finding
//   0x170  8   size of the disk                 | must fit the block count
//   0x178  4   block size, a power of two       | else: cannot be read
//   0x17C  4   extra bytes before each block
//   0x180  4   blocks of the disk
//   0x184  4   blocks stored
//   0x188  16  id of this image    0x1A8  16  id of the parent
//   map entry (4): FFFFFFFF never written (differencing: the parent's), FFFFFFFE discarded (zero),
//   else the block's number in the data         | past the end: finding, unreadable
// Source: the public description of the format in the hypervisor's own open headers.
#pragma once

#include <optional>
#include <string>

#include "lantern/container.h"

namespace lantern {

// Empty when `file` is not a VDI. Throws Error{cannot_read, unsupported}.
std::optional<Container> open_vdi(const SourcePtr& file, const Surroundings& around,
                                  const Context& context);

// A dynamic VDI whose header is lost, known by its block map. Empty when `file` has no such shape.
std::optional<Container> open_headless_vdi(const SourcePtr& file, const Surroundings& around,
                                           const Context& context);

// What the block map of such a file tells of its header.
struct VdiShape {
  std::uint32_t map_offset = 0;  // bytes
  std::uint32_t data_offset = 0;
  std::uint32_t block_bytes = 0;
  std::uint32_t block_count = 0;
  std::uint32_t blocks_stored = 0;
};
std::optional<VdiShape> headless_vdi(const SourcePtr& file);

std::optional<std::string> vdi_identity(const ByteSource& file);

}  // namespace lantern
