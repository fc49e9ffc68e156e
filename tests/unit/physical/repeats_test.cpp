#include "physical/reading/repeats.h"

#include <gtest/gtest.h>

#include <random>

#include "kit/bytes.h"

namespace lantern {
namespace {

constexpr std::uint64_t kLength = 512 * 64;

Bytes random_bytes(std::size_t length, unsigned seed) {
  std::mt19937 random(seed);
  Bytes bytes(length);
  for (std::byte& each : bytes) each = static_cast<std::byte>(random());
  return bytes;
}

TEST(Repeats, AnotherPlacesContentIsNoticedAlsoOverSeveralReads) {
  RepeatWatch watch(512);
  watch.watch_closely();
  const Bytes content = random_bytes(kLength, 1);
  watch.saw(0, content);
  watch.saw(1u << 20, ByteView(content).first(512 * 5));
  watch.saw((1u << 20) + 512 * 5, ByteView(content).subspan(512 * 5, 512 * 5));
  watch.saw(1u << 21, random_bytes(kLength, 2));
  ASSERT_EQ(watch.found().size(), 1u);
  EXPECT_EQ(watch.found()[0].range, (Range{1u << 20, 512 * 10}));
  EXPECT_EQ(watch.found()[0].as_at, 0u);
  EXPECT_FALSE(watch.found()[0].one_sector);
}

TEST(Repeats, OneSectorAgainAndAgainIsNoticed) {
  RepeatWatch watch(512);
  watch.watch_closely();
  const Bytes sector = random_bytes(512, 3);
  Bytes same;
  for (int i = 0; i < 20; ++i) same.insert(same.end(), sector.begin(), sector.end());
  watch.saw(4096, same);
  ASSERT_EQ(watch.found().size(), 1u);
  EXPECT_EQ(watch.found()[0].range, (Range{4096 + 512, 512 * 19}));
  EXPECT_EQ(watch.found()[0].as_at, 4096u);
  EXPECT_TRUE(watch.found()[0].one_sector);
}

TEST(Repeats, FillPatternsAndAFewSectorsAreNot) {
  RepeatWatch watch(512);
  watch.watch_closely();
  watch.saw(0, Bytes(kLength));
  watch.saw(kLength, Bytes(kLength, std::byte{0xF6}));
  Bytes pattern(kLength);
  for (std::size_t i = 0; i < pattern.size(); ++i) pattern[i] = static_cast<std::byte>(i % 4);
  watch.saw(2 * kLength, pattern);
  const Bytes few = random_bytes(512 * 7, 4);
  watch.saw(3 * kLength, few);
  watch.saw(4 * kLength, few);
  EXPECT_TRUE(watch.found().empty());
}

TEST(Repeats, OfADiskWithoutTroubleOneSectorOfEightIsLookedAt) {
  RepeatWatch watch(512);
  const Bytes content = random_bytes(kLength, 6);
  watch.saw(0, content);
  watch.saw((1u << 20) + 512 * 3, ByteView(content).subspan(512 * 3));
  ASSERT_EQ(watch.found().size(), 1u);
  EXPECT_EQ(watch.found()[0].range, (Range{(1u << 20) + 4096, kLength - 4096}));
  EXPECT_EQ(watch.found()[0].as_at, 4096u);
}

TEST(Repeats, TheSamePlaceReadAgainIsNone) {
  RepeatWatch watch(512);
  const Bytes content = random_bytes(kLength, 5);
  watch.saw(0, content);
  watch.saw(0, content);
  EXPECT_TRUE(watch.found().empty());
}

}  // namespace
}  // namespace lantern
