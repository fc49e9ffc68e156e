#include "volume/shadow_copies.h"

#include <gtest/gtest.h>

#include <random>

#include "kit/shadow_builder.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using kit::Bytes;
using kit::ShadowBuilder;

constexpr std::size_t kBlock = ShadowBuilder::kBlock;

class ShadowCopiesTest : public ::testing::Test {
 protected:
  ShadowCopies find(const Bytes& volume) {
    return find_shadow_copies(make_memory_source(volume), context_);
  }
  Context context_;
};

TEST_F(ShadowCopiesTest, AVolumeWithoutAnyHasNone) {
  EXPECT_TRUE(find(Bytes(64 * kBlock)).versions.empty());
  EXPECT_TRUE(find(Bytes(100)).versions.empty());
  EXPECT_TRUE(context_.findings->all().empty());
}

TEST_F(ShadowCopiesTest, TheyAreListedByTimeAndOpenedByIdOrName) {
  ShadowBuilder volume(64);
  volume.write(3, kit::pattern(kBlock, 1));
  volume.keep_copy(200);
  volume.write(3, kit::pattern(kBlock, 2));
  volume.keep_copy(100);
  const ShadowCopies found = find(volume.bytes());
  ASSERT_EQ(found.versions.size(), 2u);
  EXPECT_EQ(found.versions[0].id, "1");
  EXPECT_LT(found.versions[0].created->seconds, found.versions[1].created->seconds);
  EXPECT_EQ(found.versions[0].name, "00000064-0000-0000-0000-0000000000aa");
  EXPECT_TRUE(found.open_version("00000064-0000-0000-0000-0000000000aa"));
  EXPECT_FALSE(found.open_version("3"));
}

// What a system does to a volume, by the rules as they are known, and each state recorded.
TEST_F(ShadowCopiesTest, EveryStateOfARandomLifeComesBack) {
  for (std::uint32_t seed = 1; seed <= 20; ++seed) {
    std::mt19937 random(seed);
    ShadowBuilder volume(64);
    std::vector<Bytes> states;
    const auto any = [&] { return kit::pattern(kBlock, static_cast<std::uint32_t>(random())); };
    for (int step = 0; step < 120; ++step) {
      const std::size_t block = 1 + random() % 60;
      switch (random() % 12) {
        case 0:
          volume.keep_copy(1000 + static_cast<std::uint64_t>(step));
          states.push_back(volume.now());
          break;
        case 1:
          volume.move(block, 1 + random() % 60);
          break;
        case 2:
        case 3:
          volume.write_sectors(
              block * kBlock + random() % 28 * 512,
              kit::pattern(512 * (1 + random() % 4), static_cast<std::uint32_t>(seed * 1000) +
                                                         static_cast<std::uint32_t>(step)));
          break;
        default:
          volume.write(block, any());
      }
    }
    const ShadowCopies found = find(volume.bytes());
    ASSERT_EQ(found.versions.size(), states.size());
    for (std::size_t i = 0; i < states.size(); ++i) {
      const Bytes then = kit::read_all(*found.open_version(std::to_string(i + 1)));
      ASSERT_EQ(then.size(), states[i].size());
      for (std::size_t at = kBlock; at < then.size(); at += 512)
        ASSERT_TRUE(std::equal(then.begin() + static_cast<std::ptrdiff_t>(at),
                               then.begin() + static_cast<std::ptrdiff_t>(at + 512),
                               states[i].begin() + static_cast<std::ptrdiff_t>(at)))
            << "seed " << seed << " state " << i << " byte " << at;
    }
  }
  EXPECT_TRUE(context_.findings->all().empty());
}

TEST_F(ShadowCopiesTest, WhatACopyDoesNotNeedIsZeroUnlessTheBitmapCannotBe) {
  ShadowBuilder volume(64);
  volume.write(3, kit::pattern(kBlock, 1));
  volume.write(4, kit::pattern(kBlock, 2));
  volume.keep_copy(100, {4});
  const auto part = [&](const Bytes& bytes, std::size_t block) {
    const SourcePtr then = find(bytes).open_version("1");
    Bytes read(kBlock);
    then->read(block * kBlock, read);
    return read;
  };
  EXPECT_EQ(part(volume.bytes(), 3), kit::pattern(kBlock, 1));
  EXPECT_EQ(part(volume.bytes(), 4), Bytes(kBlock));
  const SourcePtr then = find(volume.bytes()).open_version("1");
  EXPECT_TRUE(known_zero(*then, {4 * kBlock, kBlock}));
  EXPECT_FALSE(known_zero(*then, {3 * kBlock, 2 * kBlock}));
  ShadowBuilder turned(64);
  turned.write(4, kit::pattern(kBlock, 2));
  turned.keep_copy(100, {0, 4});
  EXPECT_EQ(part(turned.bytes(), 4), kit::pattern(kBlock, 2));
}

TEST_F(ShadowCopiesTest, AListThatLoopsOrLeadsNowhereEndsThere) {
  ShadowBuilder volume(64);
  volume.write(3, kit::pattern(kBlock, 1));
  volume.keep_copy(100);
  volume.write(3, kit::pattern(kBlock, 2));
  for (const std::uint64_t next : {volume.place_of_list(0), std::uint64_t{1} << 60}) {
    Bytes bytes = volume.bytes();
    kit::put(bytes, static_cast<std::size_t>(volume.place_of_list(0)) + 0x28, next, 8);
    Context context;
    const SourcePtr then = find_shadow_copies(make_memory_source(bytes), context).open_version("1");
    Bytes read(kBlock);
    then->read(3 * kBlock, read);
    EXPECT_EQ(read, kit::pattern(kBlock, 1));
    ASSERT_EQ(context.findings->all().size(), 1u);
    EXPECT_EQ(to_string(context.findings->all()[0].code), "volume.shadow-copies");
  }
}

TEST_F(ShadowCopiesTest, BlocksKeptWhereNothingIsAreLost) {
  ShadowBuilder volume(64);
  volume.write(3, kit::pattern(kBlock, 1));
  volume.keep_copy(100);
  volume.write(3, kit::pattern(kBlock, 2));
  Bytes bytes = volume.bytes();
  const auto entry = static_cast<std::size_t>(volume.place_of_list(0)) + 0x80;
  kit::put(bytes, entry + 0x10, ~std::uint64_t{0} - 100, 8);
  std::vector<Range> lost;
  kit::read_all(*find(bytes).open_version("1"), &lost);
  EXPECT_EQ(lost, (std::vector<Range>{{3 * kBlock, kBlock}}));
}

}  // namespace
}  // namespace lantern
