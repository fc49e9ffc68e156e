// How alike the content on both sides of a border is, as learned on the disk.
#include "nest/places/likeness.h"

#include <gtest/gtest.h>

#include <random>

#include "kit/bytes.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

constexpr std::uint64_t kBlock = 16u << 10;

// Block N holds one of four alphabets, bytes of it at random.
kit::Bytes of_alphabet(std::uint64_t number, std::size_t size) {
  std::mt19937 random(static_cast<unsigned>(number));
  kit::Bytes bytes(size);
  for (auto& byte : bytes) byte = static_cast<std::byte>(number % 4 * 64 + random() % 24);
  return bytes;
}

class LikenessOfContents : public testing::Test {
 protected:
  LikenessOfContents() {
    kit::Bytes disk;
    for (std::uint64_t i = 0; i < 128; ++i) {
      const kit::Bytes block = of_alphabet(i, kBlock);
      disk.insert(disk.end(), block.begin(), block.end());
      inside_.push_back(i * kBlock + kBlock / 2);
    }
    disk_ = make_memory_source(std::move(disk));
  }

  ByteShares at(std::uint64_t place) const { return Likeness::shares(*disk_, place); }

  SourcePtr disk_;
  std::vector<std::uint64_t> inside_;
};

TEST_F(LikenessOfContents, MoreOfTheSameIsForItAndOtherIsAgainst) {
  const Likeness likeness(disk_, inside_);
  ASSERT_TRUE(likeness.tells());
  // One in four is of the same alphabet by chance: 2 bits.
  EXPECT_NEAR(likeness.weigh(at(0), at(4 * kBlock)), 2, 1);
  EXPECT_LT(likeness.weigh(at(0), at(kBlock)), -3);
}

TEST_F(LikenessOfContents, TooFewPlacesToLearnFromTellNothing) {
  inside_.resize(63);
  EXPECT_FALSE(Likeness(disk_, inside_).tells());
  EXPECT_EQ(Likeness(disk_, inside_).weigh(at(0), at(kBlock)), 0);
}

TEST_F(LikenessOfContents, WhatIsLikeEverythingSaysLittle) {
  disk_ = make_memory_source(of_alphabet(0, 128 * kBlock));
  const Likeness likeness(disk_, inside_);
  ASSERT_TRUE(likeness.tells());
  EXPECT_NEAR(likeness.weigh(at(0), at(5 * kBlock)), 0, 1.5);
}

TEST_F(LikenessOfContents, ZerosAreLikeZeros) {
  const auto zeros = make_memory_source(kit::Bytes(Likeness::kLooked));
  const ByteShares none = Likeness::shares(*zeros, 0);
  const Likeness likeness(disk_, inside_);
  EXPECT_GT(likeness.weigh(none, none), likeness.weigh(none, at(kBlock)));
}

}  // namespace
}  // namespace lantern
