// QCOW2 and its forerunner as disks. Layout in header.h; the tables, big-endian:
//   level 1 entry (8): bits 9-55 offset of a level 2 table, 0: all of it absent
//   level 2 entry (8): bit 62 packed: offset in the low 70 - cluster bits, above it sectors less
//   one;
//     else bits 9-55 offset, bit 0 zero (version 3); 0: absent
//   extended level 2 entry (16): the same without bit 0, then 32 bits of parts that are here and,
//     above, 32 of parts that are zero
//   forerunner (version 1): 0x08 8, 0x10 4 parent's name  0x18 8 disk bytes  0x20 1 cluster bits
//     0x21 1 level 2 bits  0x24 4 encryption  0x28 8 level 1; entries are offsets, bit 63 packed
//     with the bytes in the bits below it
// Source: the format's own public specification (docs/interop of the hypervisor).
#pragma once

#include <optional>

#include "lantern/container.h"

namespace lantern {

// Empty when `file` is neither. Throws Error{cannot_read, unsupported, refused}.
std::optional<Container> open_qcow2(const SourcePtr& file, const Surroundings& around,
                                    const Context& context);
// One whose header is lost, known by its tables. Empty when `file` has no such shape.
std::optional<Container> open_headless_qcow2(const SourcePtr& file, const Surroundings& around,
                                             const Context& context);
// The file with its level 1 table mended in memory by evidence; the file itself when nothing is
// wrong with it, or it is no QCOW2.
SourcePtr mend_qcow2_level1(const SourcePtr& file, const Surroundings& around,
                            const Context& context);
std::optional<Container> open_qcow1(const SourcePtr& file, const Surroundings& around,
                                    const Context& context);

}  // namespace lantern
