// Which extents of the physical volumes a volume lies on, by the text alone: what of a volume that
// was removed belongs to others now, and where volumes begin.
//
// Thread-safety: pure functions.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "volume/lvm/group.h"

namespace lantern::lvm {

// Extents of `then`, of a group's older description, that other volumes of `now` have. Of a thin
// volume nothing is counted: which blocks of its pool are its own stands in the pool.
struct Reuse {
  std::uint64_t extents = 0, of = 0;
};
Reuse reused(const Group& before, const Volume& then, const Group& now);

// Where volumes begin on a physical volume, by their segments that lie on it directly.
struct Beginning {
  std::string volume;
  std::uint64_t place = 0;  // byte of the physical volume
};
std::vector<Beginning> beginnings_on(const PhysicalVolume& physical, const Group& group);

}  // namespace lantern::lvm
