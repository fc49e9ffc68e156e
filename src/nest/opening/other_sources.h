// Where a file system that lies in several sources finds the others.
//
// Thread-safety: what comes back may be called from any thread.
#pragma once

#include <vector>

#include "lantern/file_system.h"
#include "lantern/nest/session.h"

namespace lantern {

// Looks among the volumes of one disk, then among the sources the session was given besides. Those
// that cannot be opened are passed over.
FileSystemSources::Other other_sources(const SourcePtr& disk, const std::vector<VolumeRow>& rows,
                                       const Session& session);

}  // namespace lantern
