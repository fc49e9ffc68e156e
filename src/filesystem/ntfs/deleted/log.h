// $LogFile: the names that entries of folders' indexes bore when they were put in or taken out.
// Little-endian, offsets in bytes.
//   page: 0 "RCRD"  4 2 offset, 6 2 count of guard numbers; its records begin at the next multiple
//     of 8, and go on in the next page when they end in none
//   record: 0 8 its number  0x18 4 length of its data  0x20 4 kind, 1  0x30 the data
//   data: 0 2 what is done, 2 2 how it is taken back  4 2 offset, 6 2 length of what the one needs
//     8 2 offset, 0x0A 2 length of what the other needs
//   done or taken back: 0C, 0E an entry is put into an index: what it needs is the entry, index.h
// Source: the Linux kernel's headers of NTFS (its replay of the log).
#pragma once

#include "filesystem/ntfs/deleted/trace.h"
#include "filesystem/ntfs/volume.h"

namespace lantern::ntfs {

// Pages and records that can be none are passed over. Of a log of more than 256 MiB, the first.
void read_log(const Volume& volume, const Stream& log, const TraceSink& sink);

}  // namespace lantern::ntfs
