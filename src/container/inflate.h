// Unpacking one block of a disk: all of it fast, and of a cut or damaged one what comes first.
//
// Thread-safety: pure functions.
#pragma once

#include <span>

#include "base/bytes.h"

namespace lantern {

enum class Packing {
  deflate,  // RFC 1951
  zlib,     // RFC 1950
  zstd      // RFC 8878, one frame
};

// Fills `out` from `packed`, which may have more bytes behind its end. Returns the bytes that came
// out before anything was missing or wrong: out.size() when all is well.
std::size_t inflate_block(Packing packing, ByteView packed, std::span<std::byte> out);

}  // namespace lantern
