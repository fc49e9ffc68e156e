// A file system of exFAT made larger (layout: filesystem/exfat/boot.h) as far as there is room
// between its FAT and its clusters: FAT, bitmap, boot region and its copy. Source: exFAT file
// system specification (Microsoft).
//
// Thread-safety: pure; reads the volume.
#pragma once

#include <string>

#include "lantern/context.h"
#include "repair/grow/file_system/grown.h"

namespace lantern::repair {

// As grow_ext.
GrownFileSystem grow_exfat(const SourcePtr& volume, const std::string& address,
                           const Context& context);

}  // namespace lantern::repair
