// Master boot record with extended and logical volumes. Little-endian; LBAs in sectors.
//   sector 0:  446  16x4  entries
//              510  2     55 AA
//   entry:     0    1     80: active, else 00     | anything else: not a table
//              4    1     type; 05 0F 85: extended
//              8    4     first LBA (a logical volume: from its own record;
//                         the next record: from the first extended record)
//              12   4     sectors                 | past the end: finding
// Source: the layout as documented in UEFI Specification 2.10, 5.2.1, and by common use for the
// extended chain.
#pragma once

#include <optional>

#include "lantern/volume_table.h"

namespace lantern {

// Empty when sector 0 holds no such table.
std::optional<VolumeTable> read_mbr(const SourcePtr& disk, std::uint32_t sector_size,
                                    const Context& context);

// Whether sector 0 has an entry of type EE, as a GPT disk should.
bool has_protective_entry(const SourcePtr& disk);

// The other primary entries of a record that has a protective one.
std::vector<VolumeRow> entries_beside_protective(const SourcePtr& disk, std::uint32_t sector_size);

}  // namespace lantern
