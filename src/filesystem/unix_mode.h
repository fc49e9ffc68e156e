// What the upper bits of a Unix mode say an entry is (POSIX.1-2017, sys/stat.h; the numbers are
// those of every system that writes these formats).
//
// Thread-safety: pure function.
#pragma once

#include <cstdint>
#include <optional>

#include "lantern/file_system.h"

namespace lantern {

// Empty: nothing that is known.
inline std::optional<EntryKind> kind_of_mode(std::uint32_t mode) {
  switch (mode & 0170000) {
    case 0010000:
      return EntryKind::fifo;
    case 0020000:
      return EntryKind::char_device;
    case 0040000:
      return EntryKind::folder;
    case 0060000:
      return EntryKind::block_device;
    case 0100000:
      return EntryKind::file;
    case 0120000:
      return EntryKind::symlink;
    case 0140000:
      return EntryKind::socket;
    default:
      return std::nullopt;
  }
}

}  // namespace lantern
