// What the parts of an ext reader share: the volume's bytes as a mount would show them, and where
// groups and inodes lie in them.
//   group descriptor (32, or more with 64-bit): 0 4 block bitmap  4 4 inode bitmap  8 4 inode table
//   0x0C 2 free blocks  0x12 2 flags: 1 no inode written, 2 no block bitmap written  0x1C 2 inodes
//   never used  0x1E 2 checksum | wrong: a copy is used;  high halves from 0x20 on, same order
// Source: the kernel's documentation of ext4 data structures, "Block Group Descriptors".
//
// Thread-safety: a Volume is read only; any thread.
#pragma once

#include <optional>

#include "filesystem/ext/inode.h"
#include "filesystem/ext/superblock.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern::ext {

struct Group {
  std::uint64_t block_bitmap = 0;  // blocks
  std::uint64_t inode_bitmap = 0;
  std::uint64_t inode_table = 0;
  std::uint32_t free_clusters = 0;
  std::uint32_t unused_inodes = 0;  // at the end of its table: never written
  bool no_inodes = false;           // none was ever written: the table may hold anything
  bool no_bitmap = false;           // only its metadata is in use
};

// The checksum a group descriptor should have; empty: the volume keeps none.
std::optional<std::uint16_t> descriptor_sum(const Superblock& super, std::uint32_t number,
                                            ByteView descriptor);

// Where the descriptor of a group lies in the copy that begins in group `holder`, bytes; of a meta
// group: in its first, second or last. Empty: there is none such.
std::optional<std::uint64_t> descriptor_place(const Superblock& super, std::uint32_t number,
                                              std::uint32_t holder);

// A part of an inode table.
struct InodeTable {
  std::uint64_t offset = 0;  // of the volume, bytes; whole records from here on
  std::uint64_t first = 0;   // inode
  std::uint64_t count = 0;   // inodes

  std::uint64_t end() const { return first + count; }
};

// Blocks of a folder whose inode is lost.
struct LooseFolder {
  std::uint32_t number = 0;  // of its inode, as its first block says
  std::uint64_t block = 0;
  std::uint64_t count = 0;  // blocks
};

struct Volume {
  SourcePtr raw;     // for contents
  SourcePtr cached;  // for structures
  Superblock super;
  std::uint64_t there_bytes = 0;  // of the volume, whatever the superblock says
  Context context;
  SourcePtr journal = nullptr;                 // the device it is on, where that is not the volume
  std::vector<std::uint64_t> loose_journal{};  // its blocks, where no inode leads to it
  // By number: what is left of the inode tables, where no group says where they lie.
  std::vector<InodeTable> loose_tables{};
  std::vector<LooseFolder> loose_folders{};  // by number; none of an inode that is left

  std::uint64_t block_place(std::uint64_t block) const { return block * super.block_bytes; }
  bool valid_block(std::uint64_t block) const {
    return block >= super.first_data_block && block != 0 && block < super.block_count;
  }
  bool valid_inode(std::uint64_t number) const {
    return number >= 1 && number <= super.inode_count;
  }
  std::uint32_t group_of_inode(std::uint32_t number) const {
    return (number - 1) / super.inodes_per_group;
  }

  // Groups of which anything can be in the volume: what walks over all of them stops there.
  std::uint32_t groups_here() const;

  // Empty when neither the descriptor nor a copy of it can be, and where tables are loose.
  std::optional<Group> group(std::uint32_t number) const;

  // Where an inode's record lies, bytes.
  std::optional<Range> inode_place(std::uint32_t number) const;
  // Empty when its record cannot be read; a wrong checksum is reported, the record used. Of a loose
  // folder one is made up.
  std::optional<Inode> inode(std::uint32_t number) const;

  // One whole block; false when any of it cannot be read.
  bool read_block(std::uint64_t block, std::span<std::byte> out) const;
};

// Bits of all groups: which blocks or inodes are in use. One group's bitmap is kept at a time.
// Thread-safety: belongs to one thread.
class Bitmap {
 public:
  enum class Of { blocks, inodes };
  Bitmap(const Volume& volume, Of of) : volume_(volume), of_(of) {}

  // `number`: a block, or an inode. What cannot be read counts as in use.
  bool in_use(std::uint64_t number);

 private:
  void load(std::uint32_t group);

  const Volume& volume_;
  Of of_;
  std::optional<std::uint32_t> group_;
  enum class Known { bits, all, none } known_ = Known::bits;
  Bytes bits_;
};

}  // namespace lantern::ext
