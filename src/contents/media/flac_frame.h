// The sound in a frame of FLAC. RFC 9639, section 9.
//
// Thread-safety: as the reader.
#pragma once

#include <cstdint>
#include <vector>

#include "contents/kind_reader.h"

namespace lantern::kinds {

struct FlacFrame {
  std::uint64_t data = 0;     // byte behind its header
  std::uint64_t samples = 0;  // of each channel
  unsigned channels = 0;      // as its header has them, 0 to 10
  unsigned sample_bits = 0;
};

// Unpacks it: a row of samples for each channel. Gives the byte of the checksum that closes the
// frame; throws Break where it makes no sense.
std::uint64_t unpack_subframes(KindReader& file, const FlacFrame& frame,
                               std::vector<std::vector<std::int64_t>>& sound);

}  // namespace lantern::kinds
