// Which extents of the physical volumes a volume lies on, by the text alone: what of a volume that
// was removed belongs to others now.
//
// Thread-safety: pure functions.
#pragma once

#include <cstdint>

#include "volume/lvm/group.h"

namespace lantern::lvm {

// Extents of `then`, of a group's older description, that other volumes of `now` have. Of a thin
// volume nothing is counted: which blocks of its pool are its own stands in the pool.
struct Reuse {
  std::uint64_t extents = 0, of = 0;
};
Reuse reused(const Group& before, const Volume& then, const Group& now);

}  // namespace lantern::lvm
