// One image of the hard-disk format, before it is known what lies below it.
#pragma once

#include <optional>

#include "container/mapped_disk.h"

namespace lantern {

// Empty when `file` is not one. Throws Error{cannot_read}.
std::optional<MappedParts> map_hard_disk(const SourcePtr& file, const Context& context);

}  // namespace lantern
