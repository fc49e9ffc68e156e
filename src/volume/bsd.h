// BSD disklabel. Little-endian or big-endian, as the machine that wrote it; offsets in bytes.
//     0 82564557   4 kind (2)   8 name of the kind (16)   24 name of the disk (16)
//    40 bytes of a sector   60 sectors of the disk   132 82564557   136 sum: all 16-bit words of
//    the
//       label up to its last entry, xored, are 0   138 entries there are   148 entries of 16:
//       0 sectors   4 first sector   8 fragment   12 kind: 0 unused, 1 swap, 7 4.2BSD, ...
//   It stands in sector 1 of a disk or of its slice in an MBR, or 64 bytes into sector 0. Entries
//   are lettered: a is 1. Entry c is the whole; places count from the start of the disk or of the
//   slice: where entry c begins at a sector other than 0, they count from the disk, and that is the
//   slice's start.
// Source: FreeBSD's disklabel(5) and sys/disklabel.h; NetBSD's the same.
#pragma once

#include <optional>

#include "lantern/volume_table.h"

namespace lantern {

std::optional<VolumeTable> read_bsd(const SourcePtr& disk, std::uint32_t sector_size,
                                    const Context& context);

// `at`: byte of the sector that the label stands in.
std::optional<Recognition> probe_bsd(const ByteSource& source, std::uint64_t at);

}  // namespace lantern
