// The header of a frame of mp3 and its kin: ISO/IEC 11172-3 and 13818-3.
//
// Thread-safety: a pure function.
#pragma once

#include <cstdint>

namespace lantern::kinds {

// Bytes of the frame; 0: no frame has this header.
std::uint64_t frame_bytes(std::uint32_t header);

}  // namespace lantern::kinds
