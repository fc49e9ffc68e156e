// Data where files lie, zeros where none does.
#include "nest/places/used_places.h"

#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

constexpr std::uint64_t kUnit = 16384, kCluster = 1024;

// Data in some clusters of a block.
kit::Bytes block(std::uint64_t from, std::uint64_t to) {
  kit::Bytes bytes(kUnit);
  std::fill(bytes.begin() + static_cast<std::ptrdiff_t>(from * kCluster),
            bytes.begin() + static_cast<std::ptrdiff_t>(to * kCluster), std::byte{7});
  return bytes;
}

class Used : public testing::Test {
 protected:
  // Eight blocks that have their place, with data in the first half; behind them eight that have
  // none.
  Used() : loose_(pieces()), used_(loose_) {
    std::vector<Piece> parts;
    for (int i = 0; i < 8; ++i)
      parts.push_back({ExtentKind::direct, kUnit, make_memory_source(block(0, 8)), 0});
    parts.push_back({ExtentKind::unreadable, 8 * kUnit, nullptr, 0});
    disk_ = make_joined(std::move(parts));
    expected_.emplace(loose_, disk_, context_);
    for (const SourcePtr& piece : loose_.bytes)
      for (std::uint64_t at = 0; at < kUnit; at += kSector) {
        kit::Bytes sector(kSector);
        piece->read(at, sector);
        used_.look(sector);
      }
  }

  static LoosePieces pieces() {
    LoosePieces loose;
    loose.piece_bytes = kUnit;
    for (const auto& [from, to] : {std::pair{0, 8}, {0, 16}, {8, 16}, {0, 0}})
      loose.bytes.push_back(make_memory_source(
          block(static_cast<std::uint64_t>(from), static_cast<std::uint64_t>(to))));
    loose.placed.resize(loose.bytes.size());
    return loose;
  }

  void lay(std::uint64_t place, std::uint64_t length) {
    used_.add(place, length, kCluster, *expected_);
  }

  const LoosePieces loose_;
  const Context context_;
  SourcePtr disk_;
  std::optional<Expectations> expected_;
  UsedPlaces used_;
};

TEST_F(Used, WhatLiesJustWhereFilesDoFitsBest) {
  for (std::uint64_t i = 0; i < 8; ++i) lay(i * kUnit, kUnit / 2);
  lay(9 * kUnit, kUnit / 2);
  used_.expect(disk_, *expected_, context_);
  const auto of = [&](std::size_t piece) { return expected_->weigh(piece, 9 * kUnit); };
  EXPECT_GT(of(0), 1);
  EXPECT_LT(of(1), of(0) - 2) << "data where no file lies";
  EXPECT_LT(of(3), of(0) - 2) << "zeros where a file lies";
  EXPECT_LT(of(2), of(1)) << "both";
  EXPECT_EQ(expected_->weigh(0, 10 * kUnit), 0) << "where no file is known to lie";
}

TEST_F(Used, DataInFreeClustersSayNothingWhereFreeClustersHoldData) {
  // Files in the second cluster only, of blocks with data in eight.
  for (std::uint64_t i = 0; i < 8; ++i) lay(i * kUnit + kCluster, kCluster);
  lay(9 * kUnit, kUnit / 2);
  used_.expect(disk_, *expected_, context_);
  EXPECT_LT(std::abs(expected_->weigh(1, 9 * kUnit) - expected_->weigh(0, 9 * kUnit)), 2);
}

TEST_F(Used, ManyFilesOfOneBlockAreAsOne) {
  for (std::uint64_t i = 0; i < 8; ++i) lay(i * kUnit, kUnit / 2);
  lay(9 * kUnit, kUnit);
  for (std::uint64_t i = 0; i < 10'000; ++i) lay(9 * kUnit, 1);
  used_.expect(disk_, *expected_, context_);
  EXPECT_GT(expected_->weigh(1, 9 * kUnit), 0);
}

}  // namespace
}  // namespace lantern
