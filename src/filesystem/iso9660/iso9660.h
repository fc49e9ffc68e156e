// ISO 9660 with Joliet and Rock Ridge, several sessions, and boot images of El Torito. Sources: see
// layout.h and record.h.
#pragma once

#include <memory>

#include "lantern/file_system.h"

namespace lantern {

// The newest session; the earlier ones are its versions. Empty for a volume of another kind.
std::shared_ptr<const FileSystem> open_iso9660(const FileSystemSources& sources,
                                               const FileSystemOptions& options,
                                               const Context& context);

}  // namespace lantern
