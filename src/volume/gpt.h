// GUID partition table. UEFI Specification 2.10, 5.3. Little-endian; LBAs in sectors.
//   header (LBA 1, and the last LBA):
//   0   8   "EFI PART"                            | else: not a header
//   12  4   header bytes, 92 to one sector        | else: damage, other copy
//   16  4   CRC32 of the header, this field zero  | else: damage, other copy
//   24  8   LBA of this header                    | else: damage, other copy
//   32  8   LBA of the other header
//   40  8   first usable LBA    48  8  last usable LBA
//   56  16  disk GUID
//   72  8   first LBA of the entries
//   80  4   entry count         84  4  entry bytes (128 x 2^n) | bounded by the budget
//   88  4   CRC32 of the entries                  | else: damage, other copy
//   entry: 0 16 type GUID (zero: unused), 16 16 GUID, 32 8 first LBA, 40 8 last LBA (inclusive),
//          48 8 attributes (bit 2: legacy boot), 56 72 name, UTF-16
#pragma once

#include <optional>

#include "lantern/volume_table.h"

namespace lantern {

// Empty when neither copy is there. Either copy is used when the other is hurt.
std::optional<VolumeTable> read_gpt(const SourcePtr& disk, std::uint32_t sector_size,
                                    const Context& context);

}  // namespace lantern
