// An address followed step by step.
//
// Thread-safety: may be called from any thread.
#pragma once

#include <memory>

#include "lantern/nest/session.h"

namespace lantern {

// What becomes of the end of an address: left as it is named; a file opened as the disk it may be;
// led down to a volume with files.
enum class AddressEnd { as_named, disk, volume };

Target follow_address(const Address& address, const Session& session, AddressEnd end);

// Empty: it leads to no folder.
std::shared_ptr<const Neighbours> folder_at(const Address& address, const Session& session);

}  // namespace lantern
