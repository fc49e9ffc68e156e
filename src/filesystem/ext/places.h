// What an ext volume tells of where a loose piece of the disk belongs: a superblock names the group
// it begins, the first block of a folder its inode, and descriptors and inodes say where bitmaps,
// tables, nodes and further blocks of folders lie, which their checksums prove.
#pragma once

#include <memory>

#include "lantern/container.h"

namespace lantern::ext {

std::unique_ptr<PlaceFinder> places(const LoosePieces& loose, const Context& context);

}  // namespace lantern::ext
