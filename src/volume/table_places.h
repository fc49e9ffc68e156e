// What partition tables tell of where a loose piece of a disk belongs: a boot record begins the
// disk, a GPT header names its own sector.
#pragma once

#include <cstdint>
#include <vector>

#include "lantern/container.h"

namespace lantern {

std::vector<PlaceClaim> table_places(const SourcePtr& known, const std::vector<SourcePtr>& loose,
                                     const Context& context);

// The size of a disk by the place its GPT gives its copy, which is the last sector. 0: not known.
std::uint64_t disk_bytes_inside(const SourcePtr& known);

}  // namespace lantern
