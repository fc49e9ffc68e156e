// Apple partition map. Big-endian, places in blocks.
//   block 0, driver record:  0 "ER"  2 2 bytes of a block  4 4 blocks of the disk
//   from block 1, entries:   0 "PM"  4 4 entries there are, the same in each  8 4 first block
//                            12 4 blocks  16 32 name  48 32 type  80 4 first block of data and
//                            84 4 blocks of it, inside  88 4 flags
//   An entry of type Apple_partition_map is the map itself; Apple_Free and Apple_Void are nothing.
// Source: Inside Macintosh, Devices, chapter 3, and the Linux kernel's block/partitions/mac.h.
#pragma once

#include <optional>

#include "lantern/volume_table.h"

namespace lantern {

// The block size of the driver record counts; where that is lost, `sector_size`.
std::optional<VolumeTable> read_apm(const SourcePtr& disk, std::uint32_t sector_size,
                                    const Context& context);

// `at`: byte of a driver record or of the first entry behind it.
std::optional<Recognition> probe_apm(const ByteSource& source, std::uint64_t at);

}  // namespace lantern
