// NTFS, opened as a FileSystem. docs/formats/ntfs.md has the cases.
#pragma once

#include "lantern/file_system.h"

namespace lantern {

// Empty when the volume does not begin or end as one, or has no file table.
std::shared_ptr<const FileSystem> open_ntfs(const FileSystemSources& sources,
                                            const FileSystemOptions& options,
                                            const Context& context);

}  // namespace lantern
