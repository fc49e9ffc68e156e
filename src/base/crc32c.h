// CRC-32C (Castagnoli), as RFC 3720 appendix B.4 has it.
#pragma once

#include <optional>

#include "base/bytes.h"

namespace lantern {

std::uint32_t crc32c(ByteView bytes);

// The same with the four bytes at `field` counted as zero.
std::uint32_t crc32c_without(ByteView bytes, std::size_t field);

// The sum going on from `state`, not inverted at either end: as file systems chain it.
std::uint32_t crc32c_chain(std::uint32_t state, ByteView bytes);

// The one byte that is wrong, where only one can be: with it put right `bytes` have the sum that
// `stored` is, or it is in `stored` itself (at = bytes.size() + 0 to 3). `sum`: the one they have,
// by crc32c or crc32c_chain.
struct WrongByte {
  std::size_t at = 0;
  std::byte right{};
};
std::optional<WrongByte> find_wrong_byte(ByteView bytes, std::uint32_t sum, std::uint32_t stored);

}  // namespace lantern
