// ext volumes that nothing at their head tells of. A superblock that is left anywhere, in the
// journal above all, gives the figures of one; else a folder's block, which names its own inode,
// and the inode that leads to a block of this number tell where the volume begins, how large blocks
// and inodes are, and which inodes lie there: what most agree on counts.
//
// Thread-safety: a pure function of what it reads.
#pragma once

#include <vector>

#include "lantern/byte_source.h"
#include "lantern/context.h"
#include "recover/sweep/finders/folder_heads.h"
#include "recover/sweep/headless/headless.h"

namespace lantern {

// Volumes that a superblock away from its place opens: its groups are still there. `superblocks`:
// bytes of the disk where a loose one stands; `starts`: where volumes may begin. Throws
// Error{stopped}.
std::vector<HeadlessVolume> ext_by_superblock(const SourcePtr& disk,
                                              const std::vector<std::uint64_t>& superblocks,
                                              const std::vector<std::uint64_t>& starts,
                                              const Context& context);

// What of an ext file system no readable volume accounts for, in order of the disk.
struct LooseExt {
  std::vector<FolderHead> heads;
  std::vector<Range> stretches;  // bytes with inodes in them
  std::vector<Range> journals;   // bytes
  std::vector<std::uint64_t> superblocks;
};

// Those with the most folders first. Throws Error{stopped}.
std::vector<HeadlessVolume> headless_ext(const SourcePtr& disk, LooseExt loose,
                                         const std::vector<std::uint64_t>& starts,
                                         const Context& context);

}  // namespace lantern
