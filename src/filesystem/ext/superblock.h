// The superblock of ext2, ext3 and ext4, 1024 bytes at byte 1024 of the volume, copies at the start
// of groups 1 and powers of 3, 5 and 7. Little-endian.
//   0x00 4 inodes  0x04 4 blocks, low  0x14 4 first data block  0x18 4 log2(block bytes) - 10
//   0x1C 4 the same of a cluster  0x20 4 blocks of a group  0x24 4 clusters of a group
//   0x28 4 inodes of a group  0x38 2 EF53  0x4C 4 revision  0x58 2 inode bytes  0x5A 2 own group
//   0x5C 4 features that may be ignored  0x60 4 needed  0x64 4 needed for writing
//   0x68 16 UUID  0x78 16 label  0xD0 16 UUID of the device the journal is on  0xE0 4 journal's
//   inode, 0: it is on that device  0xE8 4 first orphan inode
//   0xFE 2 descriptor bytes  0x104 4 first meta group  0x150 4 blocks, high
//   0x270 4 seed of checksums  0x280 4 orphan file's inode  0x3FC 4 CRC-32C | wrong: a copy is used
// Source: the kernel's documentation of ext4 data structures, "Super Block".
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string>

#include "base/bytes.h"
#include "base/crc32c.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern::ext {

enum Needed : std::uint32_t {
  kFileType = 0x2,
  kRecover = 0x4,
  kJournalDevice = 0x8,
  kMetaGroups = 0x10,
  kExtents = 0x40,
  kWide = 0x80,
  kFlexGroups = 0x200,
  kAttributeInodes = 0x400,
  kSeed = 0x2000,
  kInlineData = 0x8000,
  kKnownNeeded = 0x3F6D6
};

enum NeededForWriting : std::uint32_t {
  kSparseCopies = 0x1,
  kGroupSums = 0x10,
  kBigClusters = 0x200,
  kMetadataSums = 0x400
};

enum Ignorable : std::uint32_t {
  kHasJournal = 0x4,
  kReservedTables = 0x10,
  kTwoCopies = 0x200,
  kOrphanFile = 0x1000
};

// Whether a first superblock needs what nothing knows, or lacks what no tool takes away and its
// copies have.
constexpr bool is_needed_doubted(std::uint32_t own, std::uint32_t copy) {
  return (copy & ~own & (kFileType | kExtents | kWide)) != 0 ||
         (own & ~copy & ~std::uint32_t{kKnownNeeded}) != 0;
}

struct Superblock {
  std::uint64_t place = 0;  // bytes, in the volume
  std::uint64_t block_count = 0;
  std::uint32_t inode_count = 0;
  std::uint32_t block_bytes = 0;
  std::uint32_t cluster_blocks = 1;
  std::uint32_t first_data_block = 0;
  std::uint32_t blocks_per_group = 0;
  std::uint32_t inodes_per_group = 0;
  std::uint32_t inode_bytes = 0;
  std::uint32_t descriptor_bytes = 32;
  std::uint32_t first_meta_group = 0;
  std::uint32_t reserved_tables = 0;  // blocks behind the descriptors, for more of them
  std::uint32_t ignorable = 0;
  std::uint32_t needed = 0;
  std::uint32_t needed_for_writing = 0;
  std::uint32_t journal_inode = 0;
  std::array<std::byte, 16> journal_uuid{};
  std::uint32_t first_orphan = 0;
  std::uint32_t orphan_file = 0;
  std::uint32_t checksum_seed = 0;
  std::array<std::uint32_t, 2> copy_groups{};  // when there are only two copies
  std::array<std::byte, 16> uuid{};
  std::string label;
  bool sum_is_right = true;
  bool outvoted = false;  // without a sum, and two copies or its own figures speak against it
  // Its sum says which one byte of it was wrong; it is read with that put right.
  std::optional<WrongByte> mended;

  bool trusted() const { return sum_is_right && !outvoted; }

  bool journal_is_elsewhere() const {
    return has(kHasJournal) && journal_inode == 0 && !all_zero(journal_uuid);
  }
  bool has(Needed feature) const { return (needed & feature) != 0; }
  bool has(NeededForWriting feature) const { return (needed_for_writing & feature) != 0; }
  bool has(Ignorable feature) const { return (ignorable & feature) != 0; }
  std::uint64_t volume_bytes() const { return block_count * block_bytes; }
  std::uint32_t group_count() const {
    return static_cast<std::uint32_t>((block_count - first_data_block + blocks_per_group - 1) /
                                      blocks_per_group);
  }
  std::uint64_t group_start(std::uint32_t group) const {  // block
    return first_data_block + std::uint64_t{group} * blocks_per_group;
  }
  bool has_copy(std::uint32_t group) const;
};

constexpr std::size_t kSuperblockBytes = 1024;
constexpr std::size_t kSuperblockSumAt = 0x3FC;
constexpr std::size_t kNeededAt = 0x60;
// What is settled when a volume is made, and is the same in all copies: offsets and bytes.
constexpr std::array<std::pair<std::size_t, std::size_t>, 7> kSettled = {
    {{0x00, 8}, {0x14, 24}, {0x4C, 4}, {0x54, 6}, {0xFE, 2}, {0x104, 4}, {0x150, 4}}};
constexpr std::uint64_t kSuperblockPlace = 1024;
constexpr std::uint32_t kRootInode = 2;

// "ext2", "ext3" or "ext4", by its features.
std::string type_of(const Superblock& super);

std::string uuid_text(const std::array<std::byte, 16>& uuid);

// Empty when the figures are not those of a superblock.
std::optional<Superblock> parse_superblock(ByteView bytes, std::uint64_t place);

// The superblocks a volume may be read by, the likeliest first: its own, then copies. Empty when
// there is none.
std::vector<Superblock> find_superblocks(const ByteSource& volume);

// The one at a byte of the volume, wherever that is; none where it cannot be one.
std::vector<Superblock> superblock_at(const ByteSource& volume, std::uint64_t place);

}  // namespace lantern::ext
