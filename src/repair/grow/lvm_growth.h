// A volume of an LVM group made larger, on a physical volume that has become so (layouts:
// volume/lvm/header.h, text.h): label, the group's description with more extents, in every metadata
// area, beside the description before it. Source: LVM2's source, lib/format_text, and lvm(8).
//
// Thread-safety: pure; reads the members.
#pragma once

#include "lantern/nest/target.h"
#include "lantern/repair.h"

namespace lantern::repair {

// `target`: the volume. It takes what is free at the end of the physical volume that lies at
// `member` (an address). Empty writes: nothing is. Throws Error{refused, unsupported}.
RepairStep grow_logical_volume(const Target& target, const std::string& member,
                               const Context& context);

// The member of its group that can become larger: the one on the disk that the address of the
// volume names first, and the last that it lies on where there are several. Throws as above.
LayerPtr member_to_grow(const Target& target);

}  // namespace lantern::repair
