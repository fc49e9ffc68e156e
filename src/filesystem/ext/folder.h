// The entries of a folder's block, one after the other. Little-endian.
//   0x00 4 inode, 0: none  0x04 2 bytes to the next entry  0x06 1 bytes of the name  0x07 1 kind
//   (older: high byte of the name's length)  0x08 name; the last entry of a block may be a checksum
//   (kind DE). An index of hashes hides in entries without an inode.
// A removed entry is added to the length of the one before it: what lay there may still be read.
// Source: the kernel's documentation of ext4 data structures, "Directory Entries".
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "filesystem/ext/block_map.h"

namespace lantern::ext {

struct FolderEntry {
  std::uint32_t inode = 0;
  std::string name;
  std::uint8_t type = 0;  // 1 file 2 folder 3, 4 devices 5 pipe 6 socket 7 link; 0: not told
  std::size_t at = 0;     // bytes into the block
};

// What a block of a folder holds. `whole`: its entries reach its end without a break.
struct FolderBlock {
  std::vector<FolderEntry> entries;
  std::vector<FolderEntry> removed;  // read where nothing is any more
  bool whole = true;
};

FolderBlock parse_folder_block(const Volume& volume, ByteView block, bool with_removed);

// Whether a block, whoever it belongs to, is one of a folder: its entries fill it without a break.
bool is_folder_block(const Volume& volume, ByteView block);

// Reads a folder entry by entry, a block at a time. Damage is reported.
class FolderReader {
 public:
  FolderReader(const Volume& volume, const Inode& inode);
  // "." and ".." are given like any other; those removed come after a block's own entries when
  // asked for.
  const FolderEntry* next();
  // Where in the folder the last entry stands, bytes.
  std::uint64_t place() const { return place_; }

 private:
  bool load();

  const Volume* volume_;
  std::uint32_t number_;
  BlockMap map_;
  std::vector<Bytes> inline_parts_;
  std::size_t run_ = 0;
  std::uint64_t in_run_ = 0;
  std::uint64_t block_start_ = 0;  // of the folder, bytes
  FolderBlock block_;
  std::size_t next_ = 0;
  std::uint64_t place_ = 0;
};

}  // namespace lantern::ext
