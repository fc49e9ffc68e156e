// Whether a volume's own marks say that it was unmounted: until then its maps may lag behind.
// Sources: the kernel's documentation of ext4 (s_state, the feature "recover"); the FAT32 file
// system specification and the exFAT one (Microsoft).
//
// Thread-safety: pure; reads a few sectors.
#pragma once

#include "lantern/byte_source.h"
#include "lantern/file_system.h"

namespace lantern {

// Of ext, FAT and exFAT, by its superblock or boot sector. Of others, NTFS with its log among them:
// yes.
bool was_closed(const ByteSource& volume, const FileSystemFacts& facts);

}  // namespace lantern
