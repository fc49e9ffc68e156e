// The superblock that a member of an array has lost, from that of another member: what all members
// record alike, and what is its own. See superblock.h for the layout.
//
// Thread-safety: pure functions of what they read.
#pragma once

#include <optional>
#include <string>

#include "base/bytes.h"
#include "volume/md/superblock.h"

namespace lantern::md {

struct Rebuilt {
  std::uint64_t place = 0;  // byte of the member
  Bytes superblock;
  // What every member has a copy of, where the array has a write-intent bitmap; may be empty.
  std::uint64_t bitmap_place = 0;  // byte of the member
  Bytes bitmap;
};

// Why members of this array do not get their superblocks back from one another; empty: they may.
std::string why_not_rebuilt(const Superblock& of_any);

// The superblock of the device that has place `slot`, which is recorded in that of `other`.
// `member`: its bytes; what is left of its own superblock keeps its id. Empty: no device is
// recorded in this place, the member is too small for it, or `other` cannot be read.
std::optional<Rebuilt> rebuild_superblock(const ByteSource& member, const ByteSource& other,
                                          const Superblock& of_other, std::uint32_t slot);

}  // namespace lantern::md
