// Attributes of an inode: behind its record, and in a block of their own. Little-endian.
//   behind the record: 0 4 EA020000, then entries, values counted from the first entry
//   block: 0 4 EA020000  4 4 inodes that share it  8 4 blocks  0x10 4 CRC; entries from 0x20,
//     values counted from the start of the block
//   entry: 0 1 bytes of the name  1 1 what stands before it  2 2 value's place  4 4 inode that
//     holds the value, or 0  8 4 bytes of the value  0x10 name, padded to 4; four zeros end them
// Source: the kernel's documentation of ext4 data structures, "Extended Attributes".
#pragma once

#include <vector>

#include "filesystem/ext/volume.h"

namespace lantern::ext {

// As the system shows them, sorted by name: lists of access rights in their outside form.
std::vector<Attribute> read_attributes(const Volume& volume, const Inode& inode);

// The content of an inode that keeps it in its own record.
Bytes inline_content(const Volume& volume, const Inode& inode);

// The entries of a folder kept in its inode, as one or two parts.
std::vector<Bytes> inline_folder(const Volume& volume, const Inode& inode);
// The same of a record from elsewhere.
std::vector<Bytes> inline_folder(const Volume& volume, const Inode& inode, ByteView record);

}  // namespace lantern::ext
