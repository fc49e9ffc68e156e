// Volume shadow copies: states of a volume that are kept in the volume itself. Before a block of
// 16 KiB is written over, what it held is put into the newest copy's store; an older copy is what
// its own store has, then what the next newer has, ..., then the volume as it is. Little-endian,
// offsets in bytes; every structure begins with the same 16 bytes, 4 bytes of version, 4 of kind.
//   head, at byte 0x1E00 of the volume, kind 1: 0x30 8 catalog
//   block of 16 KiB: 0x28 8 the next of its chain, 0: none  0x80 its entries
//   catalog, kind 2, entries of 0x80: 0 8 what it is
//     2, a copy:    8 8 bytes of the volume  0x10 16 id of the store  0x30 8 time, as in NTFS
//     3, its store: 8 8 list of blocks  0x10 16 id of the store  0x20 8 head  0x30 8 bitmap
//                   0x48 8 earlier bitmap
//   list of blocks, kind 3, entries of 0x20: 0 8 byte of the block  8 8 where else it lies
//     0x10 8 where it is kept  0x18 4 flags: 1 it was moved, and lies in the next newer copy where
//     8 says  2 sectors of it are kept, by the bits of 0x1C  4 not used  0x1C 4 sectors of 512
//     bytes
//   head of a store, kind 4: 0x90 16 id of the copy
//   bitmap, kind 6: a bit a block, set when the copy does not need it
// Source: public descriptions of the format; there is no specification of its maker's.
//
// Thread-safety: what is returned may be used from any thread.
#pragma once

#include <functional>
#include <vector>

#include "lantern/container.h"

namespace lantern {

struct ShadowCopies {
  std::vector<DiskVersion> versions;  // the oldest first; ids "1", "2", ...
  // The volume as it was. Empty: there is no such. Throws Error{cannot_read}.
  std::function<SourcePtr(std::string_view)> open_version;
};

// None: `versions` is empty.
ShadowCopies find_shadow_copies(const SourcePtr& volume, const Context& context);

}  // namespace lantern
