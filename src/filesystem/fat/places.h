// What a FAT volume tells of where a loose piece of the disk belongs: its boot sector says how many
// sectors are before the volume, a folder says which cluster it begins in, and most entries of the
// table name the cluster that follows them.
#pragma once

#include <memory>

#include "lantern/container.h"

namespace lantern::fat {

std::unique_ptr<PlaceFinder> places(const LoosePieces& loose, const Context& context);

}  // namespace lantern::fat
