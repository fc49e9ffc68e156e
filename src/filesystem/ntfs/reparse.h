// What a file stands for when it is more than its content: a link, a device, a file that the system
// packed. Little-endian, offsets in bytes.
//   reparse point: 0 4 tag  4 2 length of what follows from 8
//     link: 8 2 offset, 0x0A 2 length of the path, 0x0C 2 offset, 0x0E 2 length of the path as it
//     is shown; then, of a symbolic link 4 flags; then both in UTF-16
//   extended attribute: 0 4 distance to the next, 0 the last  5 1 length of its name, 6 2 of its
//     value  8 the name, a zero byte, the value
// Sources: [MS-FSCC] File System Control Codes, 2.1.2 and 2.4.16; the Linux kernel's sources of
// NTFS for the links and devices of other systems.
#pragma once

#include <string>
#include <vector>

#include "filesystem/ntfs/volume.h"
#include "lantern/file_system.h"

namespace lantern::ntfs {

struct Meaning {
  EntryKind kind = EntryKind::file;
  std::string target;        // of a link
  std::uint64_t device = 0;  // major number << 32 | minor
  std::optional<Ownership> owner;
  std::optional<std::uint32_t> packed_by;  // of a file the system packed: its way
};

Meaning meaning_of(const Volume& volume, const File& file);

// Extended attributes, by name and value.
std::vector<lantern::Attribute> extended_attributes(const Volume& volume, const File& file);

}  // namespace lantern::ntfs
