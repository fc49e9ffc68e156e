// What an exFAT volume tells of where a loose piece of the disk belongs: its boot sector says how
// many sectors are before it and where the FAT and the root folder lie; that says where the bitmap
// and the folders are, which are known by their marks, sums and by what they lead to.
#pragma once

#include <memory>

#include "lantern/container.h"

namespace lantern::exfat {

std::unique_ptr<PlaceFinder> places(const LoosePieces& loose, const Context& context);

}  // namespace lantern::exfat
