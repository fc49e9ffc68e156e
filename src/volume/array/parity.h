// Arrays with parity, levels 4, 5 and 6: see array.h.
#pragma once

#include <vector>

#include "lantern/byte_source.h"
#include "volume/array/geometry.h"

namespace lantern::array {

// The geometry is valid, and as many members as it has are given.
SourcePtr make_parity_array(const Geometry& geometry, std::vector<SourcePtr> members);

}  // namespace lantern::array
