// One image of the hard-disk format, before it is known what lies below it.
#pragma once

#include <optional>

#include "container/mapped_disk.h"
#include "lantern/container.h"

namespace lantern {

// Empty when `file` is not one. `alone`: nothing lies below it, so that blocks without an entry are
// looked for. Throws Error{cannot_read}.
std::optional<MappedParts> map_hard_disk(const SourcePtr& file, bool alone,
                                         const Surroundings& around, const Context& context);

}  // namespace lantern
