// Names a volume that is encrypted, and what opens it. Nothing is opened here. Offsets in bytes.
//   LUKS: 0 "LUKS" BA BE  6 2 version, big-endian; of a second copy 0 "SKUL" BA BE
//     1: 208 eight slots of 48: 0 4 00AC71F3 in use
//     2: 8 8 length of the header, big-endian; behind its first 4096 a text with "keyslots"
//   BitLocker: 3 "-FVE-FS-" (or "MSWIN4.1" on what is carried about, with its GUID at 0x1A8)
//     0xB0 three places of its metadata (0x1B8 there), 8 each: block 0 "-FVE-FS-", 0x40 4 length
//     0x70 entries: 0 2 length 2 2 type (2: a key) 4 2 kind (8: a volume's key)
//       of such a key: 0x22 2 what protects it
//   CoreStorage: 8 2 version 1  0x0A 2 kind of block 10  0x58 "CS"
// Sources: LUKS On-Disk Format Specification, 1.2.3 and 2; for BitLocker and CoreStorage, which
// have none, public descriptions of their formats.
//
// Thread-safety: pure functions.
#pragma once

#include <optional>
#include <string>

#include "lantern/byte_source.h"

namespace lantern {

struct Encryption {
  std::string name;
  std::string wants;  // "a passphrase (2 key slots in use)"
};

std::optional<Encryption> encryption_of(const ByteSource& volume);

}  // namespace lantern
