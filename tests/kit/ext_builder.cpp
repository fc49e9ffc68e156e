#include "kit/ext_builder.h"

namespace lantern::kit {

ExtBuilder::ExtBuilder(std::uint32_t needed, std::uint32_t ignorable)
    : bytes_(std::size_t{kBlocks} * kBlock) {
  const std::size_t super = 1024;
  put(bytes_, super + 0x00, kInodes, 4);
  put(bytes_, super + 0x04, kBlocks, 4);
  put(bytes_, super + 0x14, 1, 4);
  put(bytes_, super + 0x20, 8192, 4);
  put(bytes_, super + 0x24, 8192, 4);
  put(bytes_, super + 0x28, kInodes, 4);
  put(bytes_, super + 0x38, 0xEF53, 2);
  put(bytes_, super + 0x4C, 1, 4);
  put(bytes_, super + 0x54, 11, 4);
  put(bytes_, super + 0x58, kInode, 2);
  put(bytes_, super + 0x5C, ignorable, 4);
  put(bytes_, super + 0x60, needed | 0x2, 4);
  put_text(bytes_, super + 0x78, "skerrow");
  const std::size_t group = 2 * kBlock;
  put(bytes_, group + 0, kBlockBitmap, 4);
  put(bytes_, group + 4, kInodeBitmap, 4);
  put(bytes_, group + 8, kInodeTable, 4);
  put(bytes_, group + 0x0C, 400, 2);
  for (std::uint32_t block = 1; block < kRootBlock; ++block) use_block(block);
  for (std::uint32_t inode = 1; inode <= 10; ++inode) use_inode(inode);
  folder(2, 2, kRootBlock, {});
}

void ExtBuilder::use_block(std::uint32_t block, bool used) {
  std::byte& byte = bytes_[kBlockBitmap * kBlock + (block - 1) / 8];
  const auto bit = static_cast<std::byte>(1 << ((block - 1) % 8));
  byte = used ? byte | bit : byte & ~bit;
}

void ExtBuilder::use_inode(std::uint32_t inode, bool used) {
  std::byte& byte = bytes_[kInodeBitmap * kBlock + (inode - 1) / 8];
  const auto bit = static_cast<std::byte>(1 << ((inode - 1) % 8));
  byte = used ? byte | bit : byte & ~bit;
}

Bytes ExtBuilder::extents(const std::vector<std::array<std::uint32_t, 3>>& runs) {
  Bytes map(60);
  put(map, 0, 0xF30A, 2);
  put(map, 2, runs.size(), 2);
  put(map, 4, 4, 2);
  for (std::size_t i = 0; i < runs.size(); ++i) {
    put(map, 12 + i * 12, runs[i][0], 4);
    put(map, 12 + i * 12 + 4, runs[i][2], 2);
    put(map, 12 + i * 12 + 8, runs[i][1], 4);
  }
  return map;
}

void ExtBuilder::record(std::uint32_t inode, std::uint32_t mode, std::uint64_t size,
                        std::uint32_t flags, const Bytes& map, std::uint32_t generation) {
  const std::size_t at = inode_at(inode);
  put(bytes_, at, mode, 2);
  put(bytes_, at + 4, size & 0xFFFFFFFF, 4);
  put(bytes_, at + 0x10, 1'773'446'400, 4);
  put(bytes_, at + 0x1A, 1, 2);
  put(bytes_, at + 0x20, flags, 4);
  put_bytes(bytes_, at + 0x28, map);
  put(bytes_, at + 0x64, generation, 4);
  put(bytes_, at + 0x6C, size >> 32, 4);
  put(bytes_, at + 0x80, 32, 2);
  use_inode(inode);
}

void ExtBuilder::file(std::uint32_t inode, std::uint32_t block, const Bytes& content) {
  const auto count = static_cast<std::uint32_t>((content.size() + kBlock - 1) / kBlock);
  record(inode, 0x81A4, content.size(), 0x80000, extents({{0, block, count}}), 100 + inode);
  put_bytes(bytes_, block * kBlock, content);
  for (std::uint32_t i = 0; i < count; ++i) use_block(block + i);
}

void ExtBuilder::folder(std::uint32_t inode, std::uint32_t parent, std::uint32_t block,
                        const Names& names) {
  record(inode, 0x41ED, kBlock, 0x80000, extents({{0, block, 1}}), 100 + inode);
  use_block(block);
  Names all = {{".", inode}, {"..", parent}};
  all.insert(all.end(), names.begin(), names.end());
  std::size_t at = block * kBlock;
  for (std::size_t i = 0; i < all.size(); ++i) {
    const auto& [name, number] = all[i];
    const std::size_t needed = (8 + name.size() + 3) / 4 * 4;
    const std::size_t length = i + 1 == all.size() ? (block + 1) * kBlock - at : needed;
    put(bytes_, at, number, 4);
    put(bytes_, at + 4, length, 2);
    put(bytes_, at + 6, name.size(), 1);
    put(bytes_, at + 7, 0, 1);
    put_text(bytes_, at + 8, name);
    at += length;
  }
}

}  // namespace lantern::kit
