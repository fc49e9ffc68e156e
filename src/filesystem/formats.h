// The entries of the file systems that are read here, for the registry. Each is told by its first
// structure, and verified by what that leads to.
//
// Thread-safety: the entries are values; their probes are pure.
#pragma once

#include "base/bytes.h"
#include "lantern/format/registry.h"

namespace lantern {

// 512 bytes at a byte of a source; empty where it ends before.
inline Bytes sector_at(const ByteSource& source, std::uint64_t at) {
  Bytes sector(512);
  if (source.read(at, sector).length < sector.size()) sector.clear();
  return sector;
}

namespace fat {
Format format();
}
namespace ntfs {
Format format();
}
namespace exfat {
Format format();
}
namespace ext {
Format format();
Format journal_format();  // of a journal on a device of its own
}  // namespace ext
namespace iso9660 {
Format format();
}

}  // namespace lantern
