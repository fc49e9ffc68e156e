// A Linux software array made larger on members that have become so (layout:
// volume/md/superblock.h): how much of each is used, in every superblock and in the write-intent
// bitmaps. Source: the Linux kernel's header md_p.h, drivers/md/md-bitmap.h and documentation of
// md.
//
// Thread-safety: pure; reads the members.
#pragma once

#include <vector>

#include "lantern/nest/target.h"
#include "lantern/repair.h"

namespace lantern::repair {

// Of the array that `target` is, each of which has to be here. Throws Error{refused, unsupported}.
std::vector<LayerPtr> members_to_grow(const Target& target);

// To what the smallest of its members has room for. Empty writes: it has that already. Throws as
// above.
RepairStep grow_array(const Target& target, const Context& context);

}  // namespace lantern::repair
