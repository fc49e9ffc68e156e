// The change journal, stream $J of $Extend/$UsnJrnl: a line for each change of a file.
// Little-endian, offsets in bytes; a line begins at a multiple of 8 and lies in one page of 4096.
//   0 4 length  4 2 version: 2, or 3 with references of 16 bytes
//   version 2: 8 8 file, 0x10 8 its folder, references  0x18 8 number of the line  0x20 8 time
//     0x28 4 what was done  0x34 4 attribute bits  0x38 2 length, 0x3A 2 offset of the name
//   version 3: 8 16 file, 0x18 16 its folder  0x28 8 number  0x30 8 time  0x38 4 what was done
//     0x44 4 attribute bits  0x48 2 length, 0x4A 2 offset of the name
//   what was done: 1 2 4 written to  100 made  200 deleted
// Source: Microsoft's public documentation of USN_RECORD_V2 and USN_RECORD_V3.
#pragma once

#include "filesystem/ntfs/deleted/trace.h"
#include "filesystem/ntfs/volume.h"

namespace lantern::ntfs {

// What can be none of its lines is passed over. Of a journal of more than 256 MiB, the last.
void read_change_journal(const Volume& volume, const Stream& journal, const TraceSink& sink);

}  // namespace lantern::ntfs
