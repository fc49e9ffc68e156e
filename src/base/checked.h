// Arithmetic for figures read from a disk: an overflow is an empty answer, never a wrap.
#pragma once

#include <cstdint>
#include <optional>

namespace lantern {

inline std::optional<std::uint64_t> checked_add(std::uint64_t a, std::uint64_t b) {
  std::uint64_t sum = 0;
  if (__builtin_add_overflow(a, b, &sum)) return std::nullopt;
  return sum;
}

inline std::optional<std::uint64_t> checked_mul(std::uint64_t a, std::uint64_t b) {
  std::uint64_t product = 0;
  if (__builtin_mul_overflow(a, b, &product)) return std::nullopt;
  return product;
}

// The largest number there is, when the product is larger.
inline std::uint64_t saturating_mul(std::uint64_t a, std::uint64_t b) {
  return checked_mul(a, b).value_or(~std::uint64_t{0});
}

inline std::uint64_t divide_up(std::uint64_t value, std::uint64_t by) {
  return value / by + (value % by != 0 ? 1 : 0);
}

inline bool is_power_of_two(std::uint64_t value) {
  return value != 0 && (value & (value - 1)) == 0;
}

}  // namespace lantern
