// A number of a sector as it is looked at by the million: without a check of bounds, which the
// caller has made for the whole sector.
//
// Thread-safety: pure function.
#pragma once

#include <bit>
#include <cstddef>
#include <cstdint>
#include <cstring>

namespace lantern {

inline std::uint32_t quick_le32(const std::byte* at) {
  std::uint32_t value = 0;
  std::memcpy(&value, at, sizeof(value));
  if constexpr (std::endian::native == std::endian::big) value = __builtin_bswap32(value);
  return value;
}

}  // namespace lantern
