// The end of a frame of FLAC, by the lengths of what is packed in it. RFC 9639, section 9.
//
// Thread-safety: as the reader.
#pragma once

#include "recover/kinds/kind_reader.h"

namespace lantern::kinds {

struct FlacFrame {
  std::uint64_t data = 0;     // byte behind its header
  std::uint64_t samples = 0;  // of each channel
  unsigned channels = 0;      // as its header has them, 0 to 10
  unsigned sample_bits = 0;
};

// The byte of the checksum that closes it. Throws Break where it makes no sense.
std::uint64_t past_subframes(KindReader& file, const FlacFrame& frame);

}  // namespace lantern::kinds
