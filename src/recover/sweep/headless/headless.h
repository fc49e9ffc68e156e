// A volume that nothing at its head tells of, as what is left of it shows it.
//
// Thread-safety: a value.
#pragma once

#include <cstdint>
#include <string>

#include "lantern/file_system.h"

namespace lantern {

struct HeadlessVolume {
  std::uint64_t start = 0;  // of the disk, bytes
  FileSystemOptions opened_by;
  std::string evidence;
};

}  // namespace lantern
