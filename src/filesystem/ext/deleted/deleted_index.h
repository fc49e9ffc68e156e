// DeletedIndex: what was deleted from an ext volume, and what no folder names any more. The kernel
// empties a deleted inode; older copies of it, with its map of blocks, are in the journal, and so
// are older blocks of folders with their names.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "filesystem/ext/block_map.h"
#include "lantern/file_system.h"

namespace lantern::ext {

// An inode as it was once: number and generation.
using InodeKey = std::pair<std::uint32_t, std::uint32_t>;

// A block of a lost file's map that was read where it lay.
struct MapNode {
  std::uint64_t block = 0;
  Range of;  // blocks of the file it speaks of
};

struct Lost {
  Inode inode;
  std::uint32_t version = 0;  // not 0: an earlier content, last seen in this transaction
  EntryState state = EntryState::deleted;
  InodeKey parent{};  // {0, 0}: not known
  std::string name;   // "inode-29.jpg" and the like when it is lost
  BlockMap map;
  std::vector<MapNode> nodes_on_disk;
  std::vector<Range> gone;        // bytes of the file that are others' now
  std::vector<Range> doubtful;    // bytes that may be
  std::uint64_t taken_bytes = 0;  // of what is gone: claimed by a file deleted later
  bool examined = true;           // false: too much competes for its blocks to say
  bool unproven = false;          // not all that happened since can be seen
  std::string evidence;

  InodeKey key() const { return {inode.number, inode.generation}; }
};

struct DeletedIndex {
  std::vector<Lost> lost;
  std::multimap<InodeKey, std::size_t> children;  // by folder: index in `lost`
};

DeletedIndex index_deleted(const Volume& volume);

}  // namespace lantern::ext
