// The one wrong byte a sum tells of.
#include <gtest/gtest.h>
#include <rapidcheck.h>

#include "base/crc32c.h"
#include "kit/bytes.h"

namespace lantern {
namespace {

TEST(WrongByte, IsFoundWhereverItIs) {
  EXPECT_TRUE(rc::check([] {
    const auto length = *rc::gen::inRange<std::size_t>(1, 1500);
    const kit::Bytes whole = kit::pattern(length, *rc::gen::arbitrary<std::uint32_t>());
    const std::uint32_t stored = crc32c(whole);
    kit::Bytes damaged = whole;
    const auto at = *rc::gen::inRange<std::size_t>(0, length);
    damaged[at] ^= static_cast<std::byte>(*rc::gen::inRange(1, 256));
    const auto wrong = find_wrong_byte(damaged, crc32c(damaged), stored);
    RC_ASSERT(wrong.has_value());
    RC_ASSERT(wrong->at == at);
    RC_ASSERT(wrong->right == whole[at]);
  }));
}

TEST(WrongByte, MayBeInTheSumItself) {
  const kit::Bytes whole = kit::pattern(1020, 7);
  const std::uint32_t sum = crc32c_chain(~0u, whole);
  const auto wrong = find_wrong_byte(whole, sum, sum ^ 0x00450000);
  ASSERT_TRUE(wrong.has_value());
  EXPECT_EQ(wrong->at, 1022u);
  EXPECT_EQ(wrong->right, static_cast<std::byte>(sum >> 16));
}

TEST(WrongByte, IsNotGuessedWhereMoreAreWrongOrNone) {
  const kit::Bytes whole = kit::pattern(1020, 8);
  EXPECT_FALSE(find_wrong_byte(whole, crc32c(whole), crc32c(whole)).has_value());
  std::size_t guessed = 0;
  for (std::size_t i = 1; i < 60; ++i) {
    kit::Bytes damaged = whole;
    for (std::size_t k = 0; k < 10; ++k) damaged[i * 7 + k * 50] ^= static_cast<std::byte>(i + k);
    guessed += find_wrong_byte(damaged, crc32c(damaged), crc32c(whole)) ? 1u : 0u;
  }
  EXPECT_EQ(guessed, 0u);
}

}  // namespace
}  // namespace lantern
