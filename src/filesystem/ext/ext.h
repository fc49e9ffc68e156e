// ext2, ext3 and ext4. The kernel's documentation of ext4 data structures.
#pragma once

#include <memory>

#include "lantern/file_system.h"

namespace lantern {

// Empty when the volume is none of them. Throws Error{unsupported} for one that holds only a
// journal.
std::shared_ptr<const FileSystem> open_ext(const FileSystemSources& sources,
                                           const FileSystemOptions& options,
                                           const Context& context);

}  // namespace lantern
