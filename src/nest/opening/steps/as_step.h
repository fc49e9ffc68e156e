// The step as=FORMAT[,KEY=VALUE...]: its figures, and encrypted volumes whose header lies
// elsewhere.
//
// Thread-safety: may be called from any thread.
#pragma once

#include <string>

#include "lantern/nest/session.h"

namespace lantern {

// The session's options with the format and the figures of a step. `here`: what the address has led
// to. Throws Error{usage}.
FileSystemOptions options_of(const Step& step, const std::string& here, const Session& session);

// What is encrypted in a layer, by a header among the sources given besides. Throws
// Error{not_found, usage} when there is not one of them, Error{cannot_read} when no key opens it.
VolumePtr open_detached(const Layer& layer, const Address& address, const Session& session);

}  // namespace lantern
