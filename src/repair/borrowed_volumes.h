// Two disks of one kind side by side: what of a structure is a disk's own, and volumes by another's
// table.
//
// Thread-safety: any thread.
#pragma once

#include <string_view>

#include "lantern/nest/session.h"

namespace lantern::repair {

// A disk whose table cannot be read is looked at where the other has its volumes.
Target with_volumes_of(const Target& disk, const Target& other, const Context& context);

// Whether a field of a structure is right on one disk alone: a start, a length, an id, a name.
bool is_of_this_disk(std::string_view field);

}  // namespace lantern::repair
