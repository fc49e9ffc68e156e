// The boot catalog of El Torito: what a computer may start from this disc.
//
// Validation entry: 0x00 1  0x01 1 platform (0 PC, 1 PowerPC, 2 Mac, EF EFI)  0x1E "\x55\xAA"; its
//   16 numbers of 16 bits add up to 0.
// Entry: 0x00 88 or 00 (starts or not)  0x01 1 medium, low half: 0 none, 1 to 3 floppy disks
// of 1.2,
//   1.44, 2.88 MB, 4 hard disk  0x06 2 sectors of 512 to load  0x08 4 block of 2048
// Header of a section: 0x00 90, the last 91  0x01 1 platform  0x02 2 entries that follow; an entry
//   may go on in extensions that begin with 44.
// Source: El Torito Bootable CD-ROM Format Specification 1.0.
//
// Thread-safety: pure.
#pragma once

#include <string>
#include <vector>

#include "lantern/byte_source.h"

namespace lantern::iso9660 {

struct BootImage {
  std::uint64_t block = 0;  // of 2048 bytes
  std::uint64_t bytes = 0;  // that the firmware loads, or of the floppy disk it stands for
  bool whole = false;       // `bytes` is all of it, not its beginning alone
  std::string what;         // in words
};

std::vector<BootImage> read_boot_catalog(const ByteSource& volume, std::uint64_t block);

}  // namespace lantern::iso9660
