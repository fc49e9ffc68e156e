// FAT12, FAT16 and FAT32 with long names. Microsoft FAT specification (fatgen103), ECMA-107.
#pragma once

#include <memory>

#include "lantern/file_system.h"

namespace lantern {

// Empty when the volume is no FAT.
std::shared_ptr<const FileSystem> open_fat(const FileSystemSources& sources,
                                           const FileSystemOptions& options,
                                           const Context& context);

}  // namespace lantern
