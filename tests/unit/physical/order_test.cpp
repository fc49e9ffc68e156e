// The order of reading against plain reading front to back, by the reads each spends.
#include "physical/reading/order.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <atomic>
#include <map>
#include <random>

#include "lantern/error.h"

namespace lantern {
namespace {

constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kMiB = 1u << 20;
constexpr std::uint64_t kDisk = 96 * kMiB;

// Sectors that fail, some of them only so many times.
struct Damage {
  std::vector<bool> bad = std::vector<bool>(kDisk / kSector);
  std::map<std::uint64_t, unsigned> failures_left;  // of a sector that then can be read

  void spoil(std::uint64_t first, std::uint64_t count) {
    for (std::uint64_t s = first; s < std::min(first + count, kDisk / kSector); ++s) bad[s] = true;
  }
  std::uint64_t readable() const {
    return static_cast<std::uint64_t>(std::count(bad.begin(), bad.end(), false)) * kSector;
  }
  // Bytes a read of the range gives before it fails.
  std::uint64_t good(Range range) {
    for (std::uint64_t s = range.offset / kSector; s * kSector < range.end(); ++s) {
      const auto flaky = failures_left.find(s);
      const bool fails = flaky != failures_left.end() && flaky->second > 0;
      if (fails) --flaky->second;
      if (fails || bad[s]) return s * kSector - range.offset;
    }
    return range.length;
  }
};

Damage scattered() {
  Damage damage;
  std::mt19937_64 random(1);
  for (int i = 0; i < 150; ++i) damage.spoil(random() % (kDisk / kSector), 1 + random() % 3);
  return damage;
}

Damage clustered() {
  Damage damage;
  std::mt19937_64 random(2);
  for (int i = 0; i < 5; ++i) {
    const std::uint64_t centre = random() % (kDisk / kSector);
    for (int k = 0; k < 80; ++k) damage.spoil(centre + random() % 4000, 1 + random() % 12);
  }
  return damage;
}

Damage dead_surface() {
  Damage damage;
  // Every sixth stripe lies on a surface whose head is gone.
  constexpr std::uint64_t kStripe = 3 * kMiB / kSector;
  for (std::uint64_t s = kStripe; s < kDisk / kSector; s += 6 * kStripe) damage.spoil(s, kStripe);
  return damage;
}

Damage one_scratch() {
  Damage damage;
  damage.spoil(kDisk / kSector / 3, 12'000);
  return damage;
}

struct Curve {
  std::vector<std::uint64_t> good_after;  // bytes, by reads spent
  std::uint64_t reads() const { return good_after.size(); }
  std::uint64_t at(std::uint64_t reads) const {
    return good_after.empty() ? 0 : good_after[std::min<std::uint64_t>(reads, this->reads()) - 1];
  }
};

Curve ours(Damage damage, ReadMap& map) {
  Curve curve;
  std::uint64_t good = 0;
  const auto read = [&](Range range) {
    const std::uint64_t came = damage.good(range);
    good += came;
    curve.good_after.push_back(good);
    return Tried{came, false};
  };
  read_in_order(map, {}, read, Context());
  return curve;
}

// In pieces; where one fails its sectors one by one, each three times.
Curve plain(Damage damage) {
  constexpr std::uint64_t kPiece = kMiB;
  constexpr int kTries = 3;
  Curve curve;
  std::uint64_t good = 0;
  for (std::uint64_t at = 0; at < kDisk; at += kPiece) {
    const bool whole = damage.good({at, kPiece}) == kPiece;
    if (whole) good += kPiece;
    curve.good_after.push_back(good);
    for (std::uint64_t s = at; !whole && s < at + kPiece; s += kSector)
      for (int i = 0; i < kTries; ++i) {
        const bool came = damage.good({s, kSector}) == kSector;
        if (came) good += kSector;
        curve.good_after.push_back(good);
        if (came) break;
      }
  }
  return curve;
}

struct Case {
  const char* name;
  Damage (*make)();
};

class Orders : public testing::TestWithParam<Case> {};

TEST_P(Orders, AllThatCanBeReadComesAndNearlyAllOfItForHalfThePrice) {
  const Damage damage = GetParam().make();
  ReadMap map(kDisk);
  const Curve mine = ours(damage, map);
  const Curve other = plain(damage);
  EXPECT_EQ(map.bytes(ReadState::good), damage.readable());
  EXPECT_EQ(map.bytes(ReadState::untried), 0u);
  EXPECT_EQ(map.bytes(ReadState::left), 0u);
  EXPECT_EQ(other.at(other.reads()), damage.readable());
  const double half =
      static_cast<double>(mine.at(other.reads() / 2)) / static_cast<double>(damage.readable());
  EXPECT_GE(half, 0.99) << mine.reads() << " reads, the plain reader " << other.reads();
  EXPECT_LE(static_cast<double>(mine.reads()), 1.02 * static_cast<double>(other.reads()));
}

INSTANTIATE_TEST_SUITE_P(All, Orders,
                         testing::Values(Case{"scattered", scattered}, Case{"clustered", clustered},
                                         Case{"dead_surface", dead_surface},
                                         Case{"one_scratch", one_scratch}),
                         [](const auto& each) { return each.param.name; });

TEST(Order, AGoodDiskIsReadFrontToBackInLargePieces) {
  ReadMap map(10 * kMiB + 700);
  std::vector<Range> asked;
  read_in_order(
      map, {},
      [&](Range range) {
        asked.push_back(range);
        return Tried{range.length, false};
      },
      Context());
  ASSERT_EQ(asked.size(), 11u);
  EXPECT_EQ(asked[3], (Range{3 * kMiB, kMiB}));
  EXPECT_EQ(asked[10], (Range{10 * kMiB, 700}));
  EXPECT_EQ(map.runs().size(), 1u);
}

TEST(Order, WhatFailsAtFirstIsTriedAgain) {
  Damage damage;
  damage.failures_left = {{1000, 2}, {40'000, 2}, {40'001, 1}};
  ReadMap map(kDisk);
  ours(damage, map);
  EXPECT_EQ(map.bytes(ReadState::good), kDisk);
}

TEST(Order, SlowPartsComeLast) {
  ReadMap map(64 * kMiB);
  const Range slow{16 * kMiB, 16 * kMiB};
  std::vector<std::uint64_t> quick_left_when_slow;  // bytes outside, when one inside is read
  std::uint64_t quick = 0, slow_reads = 0;
  read_in_order(
      map, {},
      [&](Range range) {
        const bool inside = !intersect(range, slow).empty();
        slow_reads += inside ? 1u : 0u;
        if (slow_reads == 10 && inside) quick_left_when_slow.push_back(48 * kMiB - quick);
        if (!inside) quick += range.length;
        return Tried{range.length, inside};
      },
      Context());
  EXPECT_EQ(map.bytes(ReadState::good), 64 * kMiB);
  ASSERT_FALSE(quick_left_when_slow.empty());
  EXPECT_LT(quick_left_when_slow.front(), 6 * kMiB);
}

TEST(Order, AStopIsHeardAndTheMapHoldsWhatWasRead) {
  const auto stop = std::make_shared<std::atomic<bool>>(false);
  Context context;
  context.cancel = stop;
  ReadMap map(64 * kMiB);
  int reads = 0;
  EXPECT_THROW(read_in_order(
                   map, {},
                   [&](Range range) {
                     if (++reads == 5) stop->store(true);
                     return Tried{range.length, false};
                   },
                   context),
               Error);
  EXPECT_EQ(map.bytes(ReadState::good), 5 * kMiB);
}

TEST(ReadMap, RunsThatTouchAreOneAndSumsFit) {
  ReadMap map(1000);
  map.set({100, 100}, ReadState::good);
  map.set({200, 50}, ReadState::good);
  map.set({150, 20}, ReadState::failed);
  map.set({990, 500}, ReadState::left);
  EXPECT_EQ(map.runs().size(), 6u);
  EXPECT_EQ(map.bytes(ReadState::good), 130u);
  EXPECT_EQ(map.bytes(ReadState::left), 10u);
  EXPECT_EQ(map.largest(ReadState::untried), (Range{250, 740}));
  EXPECT_EQ(map.next(ReadState::good, 120), (Range{120, 30}));
  EXPECT_EQ(map.next(ReadState::failed, 171), std::nullopt);
  map.set({0, 1000}, ReadState::good);
  EXPECT_EQ(map.runs().size(), 1u);
  EXPECT_EQ(map.at(999), ReadState::good);
  EXPECT_EQ(map.at(1000), std::nullopt);
  map.set({10, 0}, ReadState::failed);
  EXPECT_EQ(ReadMap(0).runs().size(), 0u);
}

}  // namespace
}  // namespace lantern
