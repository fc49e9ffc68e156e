// What makes a file system larger.
//
// Thread-safety: values.
#pragma once

#include <cstdint>
#include <vector>

#include "base/bytes.h"
#include "lantern/byte_source.h"

namespace lantern::repair {

struct VolumeWrite {
  std::uint64_t offset = 0;  // of the volume, bytes
  Bytes bytes;
};

struct GrownFileSystem {
  std::vector<VolumeWrite> writes;  // in order
  std::uint64_t before_bytes = 0, after_bytes = 0;
  std::uint64_t more_free_bytes = 0;
};

}  // namespace lantern::repair
