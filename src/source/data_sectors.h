// The data of a disk whose sectors hold more than that: 520 bytes with 512 of data, as the disks of
// storage servers have them. What stands behind the data of each (8 to 64 bytes of checks, made by
// the controller) is left out.
//
// Thread-safety: as every source.
#pragma once

#include <cstdint>

#include "lantern/byte_source.h"

namespace lantern {

// Whether sectors of that size (bytes, as they are stored) hold 512 or 4096 bytes of data.
bool has_data_sectors(std::uint64_t stored_bytes);

// `stored_bytes`: such a size. A part of a sector at the end is left out.
SourcePtr make_data_sectors(SourcePtr inner, std::uint64_t stored_bytes);

}  // namespace lantern
