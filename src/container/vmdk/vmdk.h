// VMDK: a virtual disk of one or more extents, put together from its descriptor. The descriptor is
// a text of its own (descriptor.h) or lies in a sparse extent (sparse.h).
#pragma once

#include <optional>
#include <string>

#include "lantern/container.h"

namespace lantern {

// Empty when `file` is not a VMDK. Throws Error{cannot_read, refused}.
std::optional<Container> open_vmdk(const SourcePtr& file, const Surroundings& around,
                                   const Context& context);

// Its content id.
std::optional<std::string> vmdk_identity(const ByteSource& file);

}  // namespace lantern
