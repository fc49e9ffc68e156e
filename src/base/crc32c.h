// CRC-32C (Castagnoli), as RFC 3720 appendix B.4 has it.
#pragma once

#include "base/bytes.h"

namespace lantern {

std::uint32_t crc32c(ByteView bytes);

// The same with the four bytes at `field` counted as zero.
std::uint32_t crc32c_without(ByteView bytes, std::size_t field);

// The sum going on from `state`, not inverted at either end: as file systems chain it.
std::uint32_t crc32c_chain(std::uint32_t state, ByteView bytes);

}  // namespace lantern
