// What an NTFS volume tells of where a loose piece of the disk belongs: a record of the file table
// has its number, and the table's own record says where that lies; a block of a folder's index says
// which it is, and the folder's record where the index lies; a page of the log bears the number of
// its last entry, which is a place in the log. Boot sectors say how many sectors are before them.
#pragma once

#include <memory>

#include "lantern/container.h"

namespace lantern::ntfs {

std::unique_ptr<PlaceFinder> places(const LoosePieces& loose, const Context& context);

}  // namespace lantern::ntfs
