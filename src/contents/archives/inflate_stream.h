// Deflate (RFC 1951) of unknown length, unpacked and let go: its end, its length and its CRC32.
//
// Thread-safety: as the reader.
#pragma once

#include <cstdint>

#include "contents/kind_reader.h"

namespace lantern::kinds {

struct Inflated {
  std::uint64_t end = 0;     // byte of the file behind the last one used
  std::uint64_t length = 0;  // of what came out
  std::uint32_t crc32 = 0;
  std::uint32_t adler32 = 1;
};

// Of a zlib stream (RFC 1950), which begins two bytes before `at`; the byte behind its checksum.
// Throws Break.
std::uint64_t past_zlib(KindReader& file, std::uint64_t at, std::uint64_t length);
// Throws Break.
Inflated inflate_stream(KindReader& file, std::uint64_t at, std::uint64_t length);
// The same, of so many bytes that they say unpack to so many: what is small, at once.
Inflated inflate_known(KindReader& file, Range packed, std::uint64_t unpacked_bytes);

}  // namespace lantern::kinds
