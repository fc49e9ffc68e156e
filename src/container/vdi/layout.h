// Where the figures of a VDI stand. Little-endian; offsets in bytes of the file.
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

#include <cstddef>
#include <cstdint>

namespace lantern::vdi {

constexpr std::uint32_t kSignature = 0xBEDA107F;
constexpr std::uint32_t kVersion = 0x00010001;
constexpr std::uint32_t kHeaderLength = 0x190;  // that is written

constexpr std::size_t kSignatureAt = 0x40;
constexpr std::size_t kVersionAt = 0x44;
constexpr std::size_t kHeaderLengthAt = 0x48;
constexpr std::size_t kKindAt = 0x4C;
constexpr std::size_t kMapOffsetAt = 0x154;
constexpr std::size_t kDataOffsetAt = 0x158;
constexpr std::size_t kSectorBytesAt = 0x168;
constexpr std::size_t kDiskBytesAt = 0x170;
constexpr std::size_t kBlockBytesAt = 0x178;
constexpr std::size_t kExtraBytesAt = 0x17C;
constexpr std::size_t kBlockCountAt = 0x180;
constexpr std::size_t kBlocksStoredAt = 0x184;
constexpr std::size_t kIdAt = 0x188;
constexpr std::size_t kStateIdAt = 0x198;
constexpr std::size_t kParentIdAt = 0x1A8;
constexpr std::size_t kHeaderBytes = 0x1C8;  // that are read

constexpr std::uint32_t kDynamic = 1;
constexpr std::uint32_t kFixed = 2;
constexpr std::uint32_t kDifferencing = 4;  // 3, undo, is laid out alike

constexpr std::size_t kMapEntryBytes = 4;
constexpr std::uint32_t kNeverWritten = 0xFFFFFFFF;
constexpr std::uint32_t kDiscarded = 0xFFFFFFFE;  // and above: no block

}  // namespace lantern::vdi
