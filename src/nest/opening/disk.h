// Opening bytes as a disk: container, table, and the volumes, which are opened when they are asked.
//
// Thread-safety: may be called from any thread.
#pragma once

#include <vector>

#include "lantern/nest/session.h"

namespace lantern {

// As Session::open_bytes, with the session's own options and services.
DiskPtr open_disk_layer(const SourcePtr& file, const Address& address, const Surroundings& around,
                        std::vector<LayerPtr> from, const Session& session);

}  // namespace lantern
