// Rows of pieces put where files lie in rows of blocks.
#include "nest/places/run_places.h"

#include <gtest/gtest.h>

#include <map>
#include <set>

#include "kit/bytes.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

constexpr std::uint64_t kUnit = 4096;
constexpr std::uint64_t kBlocks = 256;

// Behind 16 blocks in order, of which every second pair is elsewhere, 40 pieces in a row; piece N
// is filled with N.
class RunPlaces : public testing::Test {
 protected:
  RunPlaces()
      : loose_(pieces()),
        expected_(loose_, make_joined({{ExtentKind::unreadable, kBlocks * kUnit, nullptr, 0}}),
                  context_) {}

  static LoosePieces pieces() {
    LoosePieces loose;
    loose.piece_bytes = kUnit;
    for (std::uint64_t i = 0; i < 16; ++i)
      loose.slots.push_back({(i % 4 < 2 ? i : 100 + i) * kUnit});
    loose.neighbours = 15;
    loose.in_order = 8;
    for (std::size_t i = 0; i < 40; ++i) {
      loose.slots.push_back({std::nullopt, i});
      loose.bytes.push_back(make_memory_source(kit::Bytes(kUnit, static_cast<std::byte>(i))));
    }
    loose.placed.resize(loose.bytes.size());
    return loose;
  }

  // What stands in a block is seen in these pieces only.
  void add(std::uint64_t block, const std::set<int>& pieces, double bits, double against = -4) {
    expected_.add({block * kUnit, 16}, "a mark", [=](ByteView bytes) {
      return pieces.contains(std::to_integer<int>(bytes.front())) ? bits : against;
    });
  }

  // Piece by block.
  std::map<std::uint64_t, std::size_t> find(const std::set<BlockRow>& rows) {
    std::map<std::uint64_t, std::size_t> found;
    for (const PlaceClaim& claim : places_of_runs(loose_, expected_, rows, tests_, context_)) {
      EXPECT_TRUE(claim.inferred);
      found.emplace(claim.disk_offset / kUnit, claim.piece);
    }
    return found;
  }

  std::uint64_t tests_ = 100'000;

  static BlockRow row(std::uint64_t block, std::size_t count) { return {block * kUnit, count}; }

  Context context_;
  LoosePieces loose_;
  Expectations expected_;
};

TEST_F(RunPlaces, BetweenBlocksThatFitForThemselves) {
  add(50, {0}, 14);
  add(69, {19}, 14);
  const auto found = find({row(50, 20)});
  ASSERT_EQ(found.size(), 20u);
  for (std::uint64_t i = 0; i < 20; ++i) EXPECT_EQ(found.at(50 + i), i);
}

TEST_F(RunPlaces, WhatLiesOutsideOfThemIsLeft) {
  add(52, {2}, 14);
  add(60, {10}, 14);
  const auto found = find({row(50, 20)});
  EXPECT_EQ(found.size(), 9u);
  EXPECT_EQ(found.begin()->first, 52u);
}

TEST_F(RunPlaces, ARowOfAllThatLacksAPlaceButItsFirst) {
  add(60, {10}, 14);
  add(89, {39}, 14);
  const auto found = find({row(50, 40)});
  EXPECT_EQ(found.size(), 39u);
  EXPECT_EQ(found.begin()->first, 51u) << "in the first one another file may lie";
}

TEST_F(RunPlaces, BlocksThatAreAsFarApartInTheFileMakeARow) {
  add(60, {10}, 10);
  add(63, {13}, 10);
  for (const PlaceClaim& claim : expected_.claims())
    EXPECT_TRUE(claim.inferred) << "each is not enough";
  const auto found = find({});
  EXPECT_EQ(found, (std::map<std::uint64_t, std::size_t>{{60, 10}, {61, 11}, {62, 12}, {63, 13}}));
}

TEST_F(RunPlaces, OneThatFitsIsNotEnough) {
  add(60, {10}, 8);
  EXPECT_TRUE(find({row(50, 20)}).empty());
}

TEST_F(RunPlaces, NorOneThatFitsInTwoPlaces) {
  add(50, {0, 20}, 14);
  add(69, {19, 39}, 14);
  EXPECT_TRUE(find({row(50, 20)}).empty());
}

TEST_F(RunPlaces, UnlessOneOfThemIsAnotherFiles) {
  add(50, {0, 20}, 14);
  add(69, {19, 39}, 14);
  add(150, {20}, 14);
  add(169, {39}, 14);
  const auto found = find({row(50, 20), row(150, 20)});
  EXPECT_EQ(found.size(), 40u);
  EXPECT_EQ(found.at(50), 0u);
  EXPECT_EQ(found.at(150), 20u);
}

TEST_F(RunPlaces, NothingAgainstWhatIsExpected) {
  add(50, {0}, 14);
  add(60, {}, 14, -8);
  add(69, {19}, 14);
  EXPECT_TRUE(find({row(50, 20)}).empty());
}

TEST_F(RunPlaces, NothingWhenThereIsTooMuchToTest) {
  add(50, {0}, 14);
  add(69, {19}, 14);
  tests_ = 30;
  EXPECT_TRUE(find({row(50, 20)}).empty());
  EXPECT_EQ(tests_, 0u);
}

TEST_F(RunPlaces, NothingInAShuffledFile) {
  loose_.in_order = 1;
  add(50, {0}, 30);
  add(69, {19}, 30);
  EXPECT_TRUE(find({row(50, 20)}).empty());
}

}  // namespace
}  // namespace lantern
