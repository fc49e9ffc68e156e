// Where the blocks of an inode lie: extents, or the older map of direct and indirect blocks.
//   extent node: 0 2 F30A  2 2 entries  4 2 room  6 2 depth; then entries of 12:
//     leaf: 0 4 first block  4 2 blocks (over 32768: not written yet)  6 2, 8 4 place
//     index: 0 4 first block  4 4, 8 2 place of the node; after the room of a node in a block: CRC
//   map: 12 direct blocks, then one block of numbers, one of those, one of those again
// Source: the kernel's documentation of ext4 data structures, "The Contents of inode.i_block".
#pragma once

#include <algorithm>
#include <functional>
#include <vector>

#include "filesystem/ext/volume.h"

namespace lantern::ext {

struct BlockRun {
  std::uint64_t logical = 0;  // blocks
  std::uint64_t physical = 0;
  std::uint64_t count = 0;
  bool unwritten = false;  // room taken, reads as zero

  // How many of its blocks lie in the volume as it is.
  std::uint64_t here(const Volume& volume) const {
    const std::uint64_t end = volume.there_bytes / volume.super.block_bytes;
    return physical < end ? std::min(count, end - physical) : 0;
  }
};

struct BlockMap {
  std::vector<BlockRun> runs;  // in order of their place in the file, not touching twice
  std::vector<Range> lost;     // of the file, blocks: the part of the map for them is corrupt
};

// Gives a block of the map, which speaks of `of` (blocks of the file); `right` tells whether it can
// be one. False: there is none.
using ReadNode = std::function<bool(std::uint64_t block, Range of,
                                    const std::function<bool(ByteView)>& right, Bytes& out)>;

// Damage in the map is reported to the volume's context.
BlockMap map_blocks(const Volume& volume, const Inode& inode);

// The same with nodes from elsewhere, and no word of damage.
BlockMap map_blocks(const Volume& volume, const Inode& inode, const ReadNode& read_node);

}  // namespace lantern::ext
