// Where loose pieces of a disk belong by the files of its volumes: their records say at which bytes
// they begin and end, and at the right place a file of its kind begins there, and zeros fill up
// behind its end.
#pragma once

#include <memory>

#include "lantern/container.h"

namespace lantern {

std::unique_ptr<PlaceFinder> file_places(const LoosePieces& loose, const Context& context);

}  // namespace lantern
