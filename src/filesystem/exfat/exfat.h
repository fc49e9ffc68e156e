// exFAT. Source: exFAT file system specification, revision 1.00.
#pragma once

#include <memory>

#include "lantern/file_system.h"

namespace lantern {

// Empty when the volume is none.
std::shared_ptr<const FileSystem> open_exfat(const FileSystemSources& sources,
                                             const FileSystemOptions& options,
                                             const Context& context);

}  // namespace lantern
