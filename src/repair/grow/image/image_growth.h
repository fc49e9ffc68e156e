// An image file whose disk is made larger: a raw file longer, the figures of a container's head
// changed where its tables have room for it (layouts: container/vdi/layout.h, container/qcow).
//
// Thread-safety: pure; reads the file.
#pragma once

#include "lantern/nest/session.h"
#include "lantern/repair.h"

namespace lantern::repair {

// The writes are to the image file itself, "...::bytes". Throws Error{unsupported, refused}.
RepairStep grow_image(const DiskLayer& disk, std::uint64_t to_bytes, const Context& context);

}  // namespace lantern::repair
