// One inode's record. Little-endian.
//   0x00 2 mode  0x02 2 user  0x04 4 size, low  0x08 4 accessed  0x0C 4 changed  0x10 4 modified
//   0x14 4 deleted  0x18 2 group  0x1A 2 links  0x1C 4 sectors  0x20 4 flags  0x28 60 block map,
//   extents, link target or data  0x64 4 generation  0x68 4 attribute block  0x6C 4 size, high
//   0x76 2 attribute block, high  0x78 2 user, high  0x7A 2 group, high  0x7C 2 CRC-32C, low
//   0x80 2 bytes used of what follows  0x82 2 CRC, high  0x84 4 changed, 0x88 4 modified, 0x8C 4
//   accessed: two high bits of the seconds, nanoseconds  0x90 4, 0x94 4 created
// Source: the kernel's documentation of ext4 data structures, "Index Nodes".
#pragma once

#include <array>
#include <cstdint>
#include <optional>

#include "base/bytes.h"
#include "filesystem/ext/superblock.h"
#include "lantern/file_system.h"

namespace lantern::ext {

enum InodeFlag : std::uint32_t {
  kEncrypted = 0x800,
  kIndexed = 0x1000,
  kInExtents = 0x80000,
  kVerity = 0x100000,
  kOfAttribute = 0x200000,
  kInline = 0x10000000
};

struct Inode {
  std::uint32_t number = 0;
  std::uint16_t mode = 0;
  std::uint32_t user = 0;
  std::uint32_t group = 0;
  std::uint64_t size_bytes = 0;
  std::uint32_t links = 0;
  std::uint32_t sectors = 0;
  std::uint32_t flags = 0;
  std::uint32_t generation = 0;
  std::uint32_t deleted = 0;
  std::uint64_t attribute_block = 0;
  std::array<std::byte, 60> map{};
  std::optional<Timestamp> accessed, changed, modified, created;
  bool sum_is_right = true;

  bool has(InodeFlag flag) const { return (flags & flag) != 0; }
  bool folder() const { return (mode & 0xF000) == 0x4000; }
  bool file() const { return (mode & 0xF000) == 0x8000; }
  bool symlink() const { return (mode & 0xF000) == 0xA000; }
  // Empty when the mode is that of no kind of file.
  std::optional<EntryKind> kind() const;
  // A short link target lies in the record itself.
  bool fast_symlink() const {
    return symlink() && !has(kInExtents) && !has(kInline) && size_bytes < map.size();
  }
  // Whether it says where content lies.
  bool has_content() const;
};

// Whether 128 bytes, wherever they were found, are an inode in use: what it says of itself agrees.
bool looks_like_inode(ByteView record);

// `record`: of super.inode_bytes.
Inode parse_inode(const Superblock& super, std::uint32_t number, ByteView record);

// Where checksums of what belongs to one inode begin.
std::uint32_t checksum_seed(const Superblock& super, std::uint32_t number,
                            std::uint32_t generation);

}  // namespace lantern::ext
