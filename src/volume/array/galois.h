// Arithmetic in GF(256) with the polynomial 0x11D, as the second parity of RAID 6 is made, and sums
// of buffers with factors in it.
// Source: H. Peter Anvin, "The mathematics of RAID-6".
//
// Thread-safety: pure functions.
#pragma once

#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

namespace lantern::array {

std::uint8_t power_of_two(std::uint32_t exponent);
std::uint8_t multiply(std::uint8_t a, std::uint8_t b);
std::uint8_t inverse(std::uint8_t a);  // of what is not 0

// One buffer of a sum, with its factor.
struct Term {
  const std::byte* bytes = nullptr;
  std::uint8_t factor = 1;
};

// out = the sum of all terms, each as long as `out`, which must not be among them.
void sum_of(const std::vector<Term>& terms, std::span<std::byte> out);

}  // namespace lantern::array
