// Thin volumes: blocks of a pool, found by a tree in its metadata. Little-endian, in blocks of 4
// KiB, offsets in bytes.
//   first block: 0 sum (160774)  32 mark 27022010  40 version  320 root of the mappings  328 root
//   of
//     the devices  336 sectors of a data block
//   node: 0 sum (121107)  4 flags: 1 inner, 2 leaf  8 own block  16 entries  20 room for so many
//     24 bytes of a value  32 keys of 8, behind the room for all of them values
//   The mappings are two trees: by device, then by block of the volume; a value there is a block of
//   the pool << 24 | time.
//   Sums: CRC-32C of what follows, xor the number in brackets.
// Source: the Linux kernel, Documentation/admin-guide/device-mapper/thin-provisioning.rst and
// drivers/md/persistent-data.
//
// Thread-safety: the source may be read from any thread.
#pragma once

#include <cstdint>

#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern::lvm {

struct ThinPool {
  SourcePtr metadata, data;
};

// The volume `device` of a pool, `size_bytes` long; what has no block reads as zeros, or as
// `origin`, where that is given. Throws Error{cannot_read} when the metadata cannot be used.
// `context` gets what is wrong with them.
SourcePtr open_thin(const ThinPool& pool, std::uint64_t device, std::uint64_t size_bytes,
                    const SourcePtr& origin, const Context& context);

}  // namespace lantern::lvm
