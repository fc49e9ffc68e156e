// A file system of FAT12, FAT16 or FAT32 made larger (layout: filesystem/fat/boot_sector.h). Where
// its tables have no room for the clusters that are added they become longer, and the data begin
// later: clusters stay where they lie and are numbered anew, in the tables and in every folder;
// those that lie where the tables grow to go to the end. Source: Microsoft FAT specification
// (fatgen103) / ECMA-107.
//
// Thread-safety: pure; reads the volume.
#pragma once

#include <string>

#include "lantern/context.h"
#include "repair/grow/file_system/grown.h"

namespace lantern::repair {

// As grow_ext.
GrownFileSystem grow_fat(const SourcePtr& volume, const std::string& address,
                         const Context& context);

}  // namespace lantern::repair
