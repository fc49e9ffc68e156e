// LZNT1, the compression of NTFS: chunks of up to 4096 bytes, each with a head of two bytes.
//   head: 12 bits length - 1, 3 bits always 3, 1 bit packed; 0 ends
//   packed: a byte of flags, lowest bit first, then for each a byte as it is, or two bytes: how far
//     back - 1 in the high bits, length - 3 in the low ones; the farther into the chunk, the more
//     bits say how far back
// Source: [MS-XCA], Xpress Compression Algorithm, 2.5.
//
// Thread-safety: a pure function.
#pragma once

#include <cstddef>
#include <span>

#include "base/bytes.h"

namespace lantern::ntfs {

// Fills `out` from its start; returns the bytes it could make before the input ended or was none
// that can be. What is behind them is left as it is.
std::size_t unpack_lznt1(ByteView in, std::span<std::byte> out);

}  // namespace lantern::ntfs
