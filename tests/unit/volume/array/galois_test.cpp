#include "volume/array/galois.h"

#include <gtest/gtest.h>

#include "kit/bytes.h"

namespace lantern::array {
namespace {

TEST(Galois, EveryNumberTimesItsInverseIsOne) {
  for (unsigned a = 1; a < 256; ++a)
    EXPECT_EQ(multiply(static_cast<std::uint8_t>(a), inverse(static_cast<std::uint8_t>(a))), 1)
        << a;
  EXPECT_EQ(multiply(0, 17), 0);
}

TEST(Galois, PowersFollowThePolynomial) {
  EXPECT_EQ(power_of_two(0), 1);
  EXPECT_EQ(power_of_two(7), 0x80);
  EXPECT_EQ(power_of_two(8), 0x1D) << "0x100 less 0x11D";
  EXPECT_EQ(power_of_two(255), 1);
}

TEST(Galois, SumsAreThoseOfEachByte) {
  // More terms than are summed at once, of an odd length.
  constexpr std::size_t kLength = 1003;
  std::vector<kit::Bytes> buffers;
  std::vector<Term> terms;
  for (std::uint32_t i = 0; i < 450; ++i) buffers.push_back(kit::pattern(kLength, i + 1));
  for (std::size_t i = 0; i < buffers.size(); ++i)
    terms.push_back({buffers[i].data(), static_cast<std::uint8_t>(i)});
  kit::Bytes sum(kLength);
  sum_of(terms, sum);
  for (std::size_t at = 0; at < kLength; at += 97) {
    std::uint8_t expected = 0;
    for (std::size_t i = 0; i < buffers.size(); ++i)
      expected ^=
          multiply(std::to_integer<std::uint8_t>(buffers[i][at]), static_cast<std::uint8_t>(i));
    EXPECT_EQ(std::to_integer<std::uint8_t>(sum[at]), expected) << at;
  }
  sum_of({}, sum);
  EXPECT_EQ(sum, kit::Bytes(kLength));
}

}  // namespace
}  // namespace lantern::array
