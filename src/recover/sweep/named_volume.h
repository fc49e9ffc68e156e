// Volumes of kinds that are not read here, but that say themselves how long they are: a table can
// name them all the same. Told by their first structure and its own checks.
//
// XFS: superblock and first free-space header (the kernel's documentation of XFS on disk). Btrfs:
// superblock at 64 KiB (the kernel's header btrfs_tree.h). Swap: header of mkswap(8), pages of
// 4 KiB. LVM physical volume: label in one of the first four sectors. LUKS 1 and 2 (its on-disk
// specifications), which have no length. Array member: the kernel's header md_p.h, version 1.2.
//
// Thread-safety: all functions are pure.
#pragma once

#include <optional>
#include <string>

#include "base/bytes.h"
#include "lantern/byte_source.h"

namespace lantern {

struct NamedVolume {
  std::string kind;          // "xfs", "btrfs", "swap", "lvm", "luks", "array"
  std::string words;         // what it is
  std::uint64_t start = 0;   // bytes
  std::uint64_t length = 0;  // bytes; 0: it does not say
  bool checked = false;      // more than its mark fits: a sum, or a second structure
};

// Whether a sector may be what tells of one: a few compares, for each sector of a disk.
bool may_name_volume(const std::byte* sector);

// `at`: the byte at which such a sector lies.
std::optional<NamedVolume> named_volume(const ByteSource& disk, std::uint64_t at);

}  // namespace lantern
