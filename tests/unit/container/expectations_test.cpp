// Pieces of a disk weighed against what must stand at its places.
#include "container/expectations.h"

#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

constexpr std::uint64_t kUnit = 4096;

// A disk of which no block has its place.
SourcePtr lost_disk(std::uint64_t blocks) {
  return make_joined({{ExtentKind::unreadable, blocks * kUnit, nullptr, 0}});
}

// Piece N is filled with N.
LoosePieces numbered(std::size_t count) {
  LoosePieces loose;
  loose.piece_bytes = kUnit;
  for (std::size_t i = 0; i < count; ++i)
    loose.bytes.push_back(make_memory_source(kit::Bytes(kUnit, static_cast<std::byte>(i))));
  loose.placed.resize(count);
  return loose;
}

Weigh is(std::size_t number, double bits) {
  return [=](ByteView bytes) {
    return bytes.front() == static_cast<std::byte>(number) ? bits : -bits;
  };
}

TEST(Expectations, OnePieceThatFitsIsPlaced) {
  const LoosePieces loose = numbered(8);
  const Context context;
  Expectations expected(loose, lost_disk(16), context);
  expected.add({5 * kUnit + 100, 10}, "a mark", is(3, 30));
  const auto claims = expected.claims();
  ASSERT_EQ(claims.size(), 1u);
  EXPECT_EQ(claims[0].piece, 3u);
  EXPECT_EQ(claims[0].disk_offset, 5 * kUnit);
  EXPECT_EQ(claims[0].why, "it holds a mark");
  EXPECT_FALSE(claims[0].inferred);
}

TEST(Expectations, APlaceIsInferredFromWhatIsLikelyAndHasNoRival) {
  const LoosePieces loose = numbered(8);
  const Context context;
  Expectations expected(loose, lost_disk(16), context);
  expected.add({5 * kUnit, 10}, "a mark", is(3, 12));
  expected.add({7 * kUnit, 10}, "a mark", is(6, 12));
  expected.add({9 * kUnit, 10}, "a mark", is(6, 3));  // too little apart
  const auto claims = expected.claims();
  ASSERT_EQ(claims.size(), 1u);
  EXPECT_EQ(claims[0].disk_offset, 5 * kUnit);
  EXPECT_TRUE(claims[0].inferred);
}

TEST(Expectations, TwoThatFitOneThatIsPlacedAndLittleSaidPlaceNothing) {
  LoosePieces loose = numbered(8);
  loose.placed[4] = true;
  const Context context;
  Expectations expected(loose, lost_disk(16), context);
  expected.add({0, 10}, "any", [](ByteView) { return 30.0; });
  expected.add({kUnit, 10}, "what is placed", is(4, 30));
  expected.add({2 * kUnit, 10}, "what is common", is(5, 6));
  expected.add({3 * kUnit, 10}, "a mark", is(6, 30));
  expected.add({3 * kUnit + 20, 10}, "another", is(7, 30));
  EXPECT_TRUE(expected.claims().empty());
}

TEST(Expectations, OnePieceWantedInTwoPlacesIsInNeither) {
  const LoosePieces loose = numbered(8);
  const Context context;
  Expectations expected(loose, lost_disk(16), context);
  expected.add({0, 10}, "a mark", is(3, 30));
  expected.add({kUnit, 10}, "a mark", is(3, 30));
  EXPECT_TRUE(expected.claims().empty());
}

TEST(Expectations, WhatCrossesABlockOrLiesInAKnownOneIsNotAsked) {
  const LoosePieces loose = numbered(8);
  const Context context;
  const SourcePtr known = make_joined(
      {{ExtentKind::unreadable, kUnit, nullptr, 0}, {ExtentKind::zero, 15 * kUnit, nullptr, 0}});
  Expectations expected(loose, known, context);
  EXPECT_TRUE(expected.is_open(kUnit - 1));
  EXPECT_FALSE(expected.is_open(kUnit));
  expected.add({kUnit - 5, 10}, "a mark", is(3, 30));
  expected.add({2 * kUnit, 10}, "a mark", is(3, 30));
  EXPECT_TRUE(expected.claims().empty());
  EXPECT_EQ(expected.open(), std::vector<std::uint64_t>{0});
}

TEST(Expectations, TheOrderOfTheFileAddsToWhatIsRead) {
  LoosePieces loose = numbered(16);
  // Nine blocks in order, then piece 3, which would be the tenth.
  for (std::uint64_t i = 0; i < 9; ++i) loose.slots.push_back({i * kUnit});
  loose.slots.push_back({std::nullopt, 3});
  loose.neighbours = loose.in_order = 8;
  const Context context;
  for (const std::uint64_t place : {9u, 11u}) {
    Expectations expected(loose, lost_disk(16), context);
    expected.add({place * kUnit, 10}, "a mark", is(3, 14));
    const auto claims = expected.claims();
    ASSERT_EQ(claims.size(), 1u);
    EXPECT_EQ(claims[0].inferred, place != 9) << place;
  }
}

TEST(Expectations, AnOrderThatChanceGivesIsNone) {
  LoosePieces loose = numbered(16);
  loose.slots.resize(16);
  loose.neighbours = 12;
  loose.in_order = 3;
  EXPECT_EQ(order_share(loose), 0);
  loose.in_order = 9;
  EXPECT_DOUBLE_EQ(order_share(loose), 0.75);
  // Half of the neighbours, where there are but few blocks.
  loose.slots.resize(8);
  loose.in_order = 6;
  EXPECT_EQ(order_share(loose), 0);
}

}  // namespace
}  // namespace lantern
