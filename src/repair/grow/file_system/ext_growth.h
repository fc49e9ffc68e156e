// A file system of ext2, ext3 or ext4 made larger (layout: filesystem/ext/superblock.h, volume.h):
// its last group filled up, new groups behind it with their descriptors in the blocks that were
// reserved for that, or in the groups themselves (meta groups) where those are used up, the copies
// of superblock and descriptors written anew. What is written beside
// the superblock, descriptors, bitmaps and the inode of the reserved blocks lies behind the old
// end. Source: the kernel's documentation of ext4 data structures.
//
// Thread-safety: pure; reads the volume.
#pragma once

#include <string>

#include "lantern/context.h"
#include "repair/grow/file_system/grown.h"

namespace lantern::repair {

// To all of `volume`, which is larger than what it holds. Empty writes: it fills the volume
// already. `address`: of the volume. Throws Error{unsupported, refused} where that cannot be.
GrownFileSystem grow_ext(const SourcePtr& volume, const std::string& address,
                         const Context& context);

}  // namespace lantern::repair
