// QED: a virtual disk in clusters, two levels of tables. Little-endian.
//   0x00 4 "QED\0"  0x04 4 cluster bytes  0x08 4 clusters of a table  0x0C 4 clusters of the header
//   0x10 8 features needed: bit 0 parent, 1 to be checked, 2 the parent is raw
//   0x28 8 level 1  0x30 8 disk bytes  0x38 4, 0x3C 4 parent's name: offset, bytes
//   entries (8): 0 absent, level 2: 1 zero, else the offset
// Source: the format's own public specification (docs/interop of the hypervisor).
#pragma once

#include <optional>

#include "lantern/container.h"

namespace lantern {

// Empty when `file` is not one. Throws Error{cannot_read, refused}.
std::optional<Container> open_qed(const SourcePtr& file, const Surroundings& around,
                                  const Context& context);

// The same for a file whose header is lost: known by the shape of its tables.
std::optional<Container> open_headless_qed(const SourcePtr& file, const Surroundings& around,
                                           const Context& context);

}  // namespace lantern
