// A catalog as a disk: its volumes list what the sweep found, contents come from the disk that was
// swept, where it is there.
//
// Thread-safety: as a Session's members.
#pragma once

#include <string>

#include "lantern/nest/session.h"

namespace lantern {

// Throws Error{cannot_open, cannot_read, unsupported}, and {refused} where another disk lies in the
// place of the one that was swept.
DiskPtr open_catalog_disk(const std::string& path, const Session& session);

}  // namespace lantern
