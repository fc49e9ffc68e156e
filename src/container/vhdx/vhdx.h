// VHDX: a virtual disk in blocks, version 1. Little-endian; offsets in bytes of the file.
//   0         "vhdxfile"                                 | else, and no region table: not this
//   format 64 KiB    header, and a second at 128 KiB: "head", 0x04 4 CRC-32C of 4096 bytes, 0x08 8
//   sequence
//             (the higher one counts), 0x20 16 id of the data, 0x30 16 id of the log (0: closed),
//             0x44 4 bytes of the log, 0x48 8 its offset
//   192 KiB   region table, and a second at 256 KiB: "regi", 0x04 4 CRC-32C of 64 KiB, 0x08 4
//   count;
//             entries of 32 from 0x10: id, 0x10 8 offset, 0x18 4 bytes
//   metadata  "metadata", 0x0A 2 count; entries of 32 from 0x20: id, 0x10 4 offset, 0x14 4 bytes
//   block allocation table: entries of 8, bits 0-2 state, 20-63 MiB in the file; behind every
//             2^23 * sector / block payload entries one for the bitmap of their sectors (bit 0
//             first)
//     states: 0 not present (differencing: the parent's), 1 undefined, 2 zero, 3 unmapped,
//             6 present, 7 partly present: by the bitmap, else the parent's
// Source: MS-VHDX (Microsoft, Virtual Hard Disk v2 File Format).
#pragma once

#include <optional>
#include <string>

#include "lantern/container.h"

namespace lantern {

// Empty when `file` is not a VHDX. Throws Error{cannot_read, unsupported}.
std::optional<Container> open_vhdx(const SourcePtr& file, const Surroundings& around,
                                   const Context& context);

// The id of its data, which children name.
std::optional<std::string> vhdx_identity(const ByteSource& file);

}  // namespace lantern
