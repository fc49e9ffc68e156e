// The containers that are read, as the registry has them, in the order in which a file is asked.
//
// Thread-safety: the list is a value; its probes are pure.
#pragma once

#include <vector>

#include "lantern/container.h"
#include "lantern/format/registry.h"

namespace lantern {

std::vector<Format> container_formats();

}  // namespace lantern
