// Old snapshots: an origin, and beside it the chunks that were kept when it changed. Little-endian,
// offsets in bytes.
//   chunk 0: 0 "SnAp"  4 valid  8 version 1  12 sectors of a chunk
//   behind it areas: a chunk of pairs (chunk of the origin, chunk of this; 8 each), as many chunks
//   as that has pairs, the next area; a pair whose second is 0 ends it
// Source: the Linux kernel, Documentation/admin-guide/device-mapper/snapshot.rst and
// drivers/md/dm-snap-persistent.c.
//
// Thread-safety: the source may be read from any thread.
#pragma once

#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern::lvm {

// Throws Error{cannot_read} when the store is invalid. `context` gets what is wrong with it.
SourcePtr open_snapshot(const SourcePtr& origin, const SourcePtr& store, const Context& context);

}  // namespace lantern::lvm
