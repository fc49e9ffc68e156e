// Lays a small ext volume by hand, block by block: 1 KiB blocks, inodes of 256 bytes, no checksums
// unless asked for. The tests say where everything lies.
#pragma once

#include <array>
#include <cstdint>
#include <string>
#include <utility>
#include <vector>

#include "kit/bytes.h"

namespace lantern::kit {

class ExtBuilder {
 public:
  static constexpr std::size_t kBlock = 1024;
  static constexpr std::size_t kInode = 256;
  static constexpr std::uint32_t kBlocks = 512;
  static constexpr std::uint32_t kInodes = 64;
  static constexpr std::uint32_t kBlockBitmap = 3;
  static constexpr std::uint32_t kInodeBitmap = 4;
  static constexpr std::uint32_t kInodeTable = 5;
  static constexpr std::uint32_t kRootBlock = 30;

  // Features of the three kinds, beside filetype.
  explicit ExtBuilder(std::uint32_t needed = 0x40, std::uint32_t ignorable = 0);

  using Names = std::vector<std::pair<std::string, std::uint32_t>>;

  // A file, 1 to 12 blocks one after the other from `block`, by extents.
  void file(std::uint32_t inode, std::uint32_t block, const Bytes& content);
  // A folder of one block; "." and ".." are put before the names.
  void folder(std::uint32_t inode, std::uint32_t parent, std::uint32_t block, const Names& names);
  // The record of an inode, with room for a map of 60 bytes.
  void record(std::uint32_t inode, std::uint32_t mode, std::uint64_t size, std::uint32_t flags,
              const Bytes& map, std::uint32_t generation);

  static Bytes extents(const std::vector<std::array<std::uint32_t, 3>>& logical_place_count);
  std::size_t inode_at(std::uint32_t inode) const {
    return kInodeTable * kBlock + (inode - 1) * kInode;
  }
  void use_block(std::uint32_t block, bool used = true);
  void use_inode(std::uint32_t inode, bool used = true);
  Bytes& bytes() { return bytes_; }

 private:
  Bytes bytes_;
};

}  // namespace lantern::kit
