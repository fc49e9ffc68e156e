// Pieces of files that were written in turn, put where the file they are like goes on.
#include "nest/places/stream_places.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <atomic>
#include <memory>
#include <random>

#include "kit/bytes.h"
#include "lantern/error.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

constexpr std::uint64_t kUnit = 16u << 10;
constexpr std::uint64_t kBlocks = 512;

constexpr std::uint64_t kOfFile = 16;

// Files of 16 blocks, one behind the other; those of each file hold bytes of its alphabet.
kit::Bytes block_of(std::uint64_t place) {
  std::mt19937 random(static_cast<unsigned>(place));
  kit::Bytes bytes(kUnit);
  const std::uint64_t alphabet = place / kOfFile * 37;
  for (auto& byte : bytes) byte = static_cast<std::byte>(alphabet + random() % 16);
  return bytes;
}

class StreamPlaces : public testing::Test {
 protected:
  // The file of the disk: the first 16 files, two by turns, then `mixed`, places in the order of
  // the file, of which `loose` have none.
  void lay(const std::vector<std::uint64_t>& mixed, const std::set<std::uint64_t>& loose) {
    std::vector<std::uint64_t> order;
    for (std::uint64_t file = 0; file < 16; file += 2)
      for (const std::uint64_t place : in_turn(file, file + 1, {2, 4, 1, 7}))
        order.push_back(place);
    order.insert(order.end(), mixed.begin(), mixed.end());
    kit::Bytes disk(kBlocks * kUnit);
    std::vector<Piece> known;
    loose_ = {};
    loose_.piece_bytes = kUnit;
    truth_.clear();
    for (const std::uint64_t place : order) {
      if (loose.contains(place)) {
        loose_.slots.push_back({std::nullopt, loose_.bytes.size()});
        loose_.bytes.push_back(make_memory_source(block_of(place)));
        truth_.push_back(place);
        laid_.open.insert(place * kUnit);
        continue;
      }
      loose_.slots.push_back({place * kUnit});
      const kit::Bytes bytes = block_of(place);
      std::copy(bytes.begin(), bytes.end(),
                disk.begin() + static_cast<std::ptrdiff_t>(place * kUnit));
      laid_.inside.push_back(place * kUnit + kUnit / 2);
    }
    loose_.placed.resize(loose_.bytes.size());
    for (std::size_t i = 1; i < order.size(); ++i) {
      if (loose.contains(order[i - 1]) || loose.contains(order[i])) continue;
      ++loose_.neighbours;
      if (order[i] == order[i - 1] + 1) ++loose_.in_order;
    }
    for (std::uint64_t place = 0; place < kBlocks; ++place)
      if (place % kOfFile != 0) laid_.goes_on[place * kUnit] = true;
    disk_ = make_memory_source(std::move(disk));
  }

  // How many pieces are put in their places; none may be put anywhere else.
  std::size_t right() {
    const Expectations expected(loose_, disk_, context_);
    std::size_t right = 0;
    for (const StreamClaim& one :
         places_of_streams(loose_, disk_, expected, laid_, tries_, context_)) {
      EXPECT_TRUE(one.claim.inferred);
      EXPECT_LE(one.doubt, 0.1);
      EXPECT_EQ(one.claim.disk_offset / kUnit, truth_[one.claim.piece]);
      if (one.claim.disk_offset / kUnit == truth_[one.claim.piece]) ++right;
    }
    return right;
  }

  // Two files, `first` and `second` by number, `turns` blocks of each by turns.
  static std::vector<std::uint64_t> in_turn(std::uint64_t first, std::uint64_t second,
                                            const std::vector<int>& turns) {
    std::vector<std::uint64_t> order;
    std::uint64_t of_first = first * kOfFile, of_second = second * kOfFile;
    bool one = true;
    for (std::size_t i = 0;
         of_first < first * kOfFile + kOfFile || of_second < second * kOfFile + kOfFile; ++i) {
      for (int k = 0; k < turns[i % turns.size()]; ++k) {
        if (one && of_first < first * kOfFile + kOfFile) order.push_back(of_first++);
        if (!one && of_second < second * kOfFile + kOfFile) order.push_back(of_second++);
      }
      one = !one;
    }
    return order;
  }

  // All but the first and the last `known` of each file that begins behind the first 16.
  static std::set<std::uint64_t> insides(const std::vector<std::uint64_t>& order,
                                         std::uint64_t known) {
    std::set<std::uint64_t> loose;
    for (const std::uint64_t place : order)
      if (place % kOfFile >= known && place % kOfFile < kOfFile - known) loose.insert(place);
    return loose;
  }

  Context context_;
  std::uint64_t tries_ = 10'000'000;
  LoosePieces loose_;
  LaidBlocks laid_;
  SourcePtr disk_;
  std::vector<std::uint64_t> truth_;  // by piece
};

TEST_F(StreamPlaces, InsidesOfTwoFilesWrittenInTurn) {
  const auto order = in_turn(19, 25, {3, 5, 2, 1, 6});
  lay(order, insides(order, 1));
  EXPECT_EQ(right(), 28u);
}

// Nothing tells where the second begins.
TEST_F(StreamPlaces, TheOneThatHasBothEndsWhenTheOtherHasOne) {
  const auto order = in_turn(19, 25, {4, 4, 1});
  auto loose = insides(order, 1);
  loose.insert(25 * kOfFile);
  lay(order, loose);
  EXPECT_GE(right(), 14u);
}

TEST_F(StreamPlaces, FilesThatAreAlikeAreNotTold) {
  // Of one alphabet: which block goes on in which file nothing tells.
  const auto order = in_turn(19, 25, {1, 2});
  const auto loose = insides(order, 1);
  lay(order, loose);
  for (auto& piece : loose_.bytes) piece = make_memory_source(block_of(19 * kOfFile));
  const Expectations expected(loose_, disk_, context_);
  const auto claims = places_of_streams(loose_, disk_, expected, laid_, tries_, context_);
  EXPECT_LT(claims.size(), loose.size() / 4);
}

TEST_F(StreamPlaces, NothingWhereTheOrderOfTheFileSaysNothing) {
  auto order = in_turn(19, 25, {3, 5});
  lay(order, insides(order, 1));
  loose_.in_order = 0;
  EXPECT_EQ(right(), 0u);
}

TEST_F(StreamPlaces, NothingWhenThereIsTooMuchToTry) {
  const auto order = in_turn(19, 25, {3, 5});
  lay(order, insides(order, 1));
  tries_ = 50;
  EXPECT_EQ(right(), 0u);
  EXPECT_EQ(tries_, 0u);
}

TEST_F(StreamPlaces, StopsWhenAsked) {
  const auto order = in_turn(19, 25, {3, 5});
  lay(order, insides(order, 1));
  context_.cancel = std::make_shared<const std::atomic<bool>>(true);
  EXPECT_THROW(right(), Error);
}

}  // namespace
}  // namespace lantern
