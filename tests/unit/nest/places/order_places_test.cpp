// Places of blocks by their order in the file.
#include "nest/places/order_places.h"

#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

constexpr std::uint64_t kUnit = 4096;
constexpr std::size_t kLoose = ~std::size_t{0};

// Blocks of the file by their place, kLoose: a piece without one.
class OrderPlaces : public testing::Test {
 protected:
  void lay(const std::vector<std::size_t>& blocks) {
    loose_.piece_bytes = unit_;
    for (const std::size_t block : blocks) {
      if (block != kLoose) {
        loose_.slots.push_back({block * unit_});
        continue;
      }
      loose_.slots.push_back({std::nullopt, loose_.bytes.size()});
      loose_.bytes.push_back(make_memory_source(kit::Bytes(kUnit)));
    }
    loose_.placed.resize(loose_.bytes.size());
    for (std::size_t i = 1; i < blocks.size(); ++i) {
      if (blocks[i - 1] == kLoose || blocks[i] == kLoose) continue;
      ++loose_.neighbours;
      if (blocks[i] == blocks[i - 1] + 1) ++loose_.in_order;
    }
  }

  // Places of the pieces, in their order; empty: nothing is inferred.
  // `bits`: what is expected everywhere says of each piece. `file`: blocks of one, in its order.
  std::vector<std::uint64_t> infer(const std::set<std::uint64_t>& in_use, double bits = 0,
                                   const std::vector<std::uint64_t>& file = {}) {
    const SourcePtr lost = make_joined({{ExtentKind::unreadable, 64 * unit_, nullptr, 0}});
    Expectations expected(loose_, lost, context_);
    for (std::uint64_t block = 0; block < 64; ++block)
      expected.add({block * unit_, 16}, "a mark", [bits](ByteView) { return bits; });
    FileBlocks files;
    for (const std::uint64_t block : in_use) files.open.insert(block * unit_);
    std::vector<std::uint64_t> in_order;
    for (const std::uint64_t block : file) in_order.push_back(block * unit_);
    files.add(in_order);
    std::vector<std::uint64_t> found;
    for (const PlaceClaim& claim : places_by_order(loose_, expected, files)) {
      EXPECT_TRUE(claim.inferred);
      found.push_back(claim.disk_offset / unit_);
    }
    return found;
  }

  std::uint64_t unit_ = kUnit;
  LoosePieces loose_;
  Context context_;
};

TEST_F(OrderPlaces, BetweenTwoThatAreAsFarApart) {
  lay({0, 1, 2, 3, 4, 5, 6, 7, 8, kLoose, kLoose, 11, 12, 13});
  EXPECT_EQ(infer({}), (std::vector<std::uint64_t>{9, 10}));
  EXPECT_TRUE(infer({}, -8).empty()) << "what is expected there is evidence against it";
}

TEST_F(OrderPlaces, ByWhereFilesLie) {
  lay({0, 1, 2, 3, 4, 5, 6, 7, 8, kLoose, kLoose, 20, 21, 22, kLoose});
  EXPECT_EQ(infer({12, 13, 30}), (std::vector<std::uint64_t>{12, 13, 30}));
}

TEST_F(OrderPlaces, NothingWhereTheCountIsAnother) {
  lay({0, 1, 2, 3, 4, 5, 6, 7, 8, kLoose, kLoose, 20, 21, 22});
  EXPECT_TRUE(infer({12, 13, 14}).empty());
  EXPECT_TRUE(infer({12}).empty());
}

TEST_F(OrderPlaces, NothingInAShuffledFile) {
  lay({7, 2, 12, 5, 1, 9, 3, kLoose, 4, 11, 0, 13, 8, 10});
  EXPECT_TRUE(infer({6}).empty());
}

// Files written side by side: each goes on where the other was interrupted.
const std::vector<std::size_t> kSideBySide = {0,  1,  30, 31, 7, 8,  40, 41, 20,
                                              21, 50, 51, 3,  4, 45, 46, 10, 11};

TEST_F(OrderPlaces, OfFilesWrittenSideBySideTheFarEndOfARowIsLeftOut) {
  std::vector<std::size_t> blocks = kSideBySide;
  blocks.push_back(52);
  blocks.insert(blocks.end(), 8, kLoose);
  lay(blocks);
  const std::set<std::uint64_t> in_use = {53, 54, 55, 56, 57, 58, 59, 60};
  EXPECT_EQ(infer(in_use, 1), (std::vector<std::uint64_t>{53, 54, 55, 56, 57, 58}));
  EXPECT_TRUE(infer(in_use).empty()) << "just so many by chance";
  EXPECT_TRUE(infer({53, 54, 55, 56, 57, 60, 61, 62}, 1).empty()) << "in two rows";
}

TEST_F(OrderPlaces, OneNeighbourSaysLittleOfFewBlocks) {
  std::vector<std::size_t> blocks = kSideBySide;
  blocks.insert(blocks.end(), {52, kLoose, kLoose, 17});
  lay(blocks);
  EXPECT_TRUE(infer({53, 54}).empty());
}

TEST_F(OrderPlaces, ARowIsBrokenByBlocksOfAnotherFile) {
  std::vector<std::size_t> blocks = kSideBySide;
  blocks.insert(blocks.end(), {52, kLoose, kLoose, 17, 18, kLoose, 56});
  lay(blocks);
  EXPECT_EQ(infer({53, 54, 55}), (std::vector<std::uint64_t>{53, 54, 55}));
  EXPECT_TRUE(infer({53, 54}).empty()) << "one of them is not known to be of a file";
}

TEST_F(OrderPlaces, OfLargeBlocksRowsOfSeveralFilesAreTakenAsTheyLie) {
  std::vector<std::size_t> blocks = kSideBySide;
  blocks.insert(blocks.end(), {54, kLoose, kLoose, kLoose, kLoose, 63});
  lay(blocks);
  EXPECT_TRUE(infer({55, 56, 59, 60}).empty()) << "few small blocks";
  loose_ = {};
  unit_ = 1u << 20;
  lay(blocks);
  EXPECT_EQ(infer({55, 56, 59, 60}), (std::vector<std::uint64_t>{55, 56, 59, 60}));
  EXPECT_TRUE(infer({56, 58, 59, 60}).empty()) << "a row of one block may be anywhere";
}

TEST_F(OrderPlaces, TheSamePlacesFromBothSidesAreTooFew) {
  std::vector<std::size_t> blocks = kSideBySide;
  blocks.push_back(52);
  blocks.insert(blocks.end(), 12, kLoose);
  blocks.push_back(59);
  lay(blocks);
  EXPECT_TRUE(infer({53, 54, 55, 56, 57, 58}, 1).empty());
}

TEST_F(OrderPlaces, TwoRowsThatAreJustAsManyTogetherNeedEvidence) {
  std::vector<std::size_t> blocks = kSideBySide;
  blocks.insert(blocks.end(), 13, kLoose);
  blocks.push_back(59);
  lay(blocks);
  const std::set<std::uint64_t> in_use = {12, 13, 14, 15, 16, 17, 18, 53, 54, 55, 56, 57, 58};
  EXPECT_TRUE(infer(in_use).empty());
  EXPECT_EQ(infer(in_use, 1), (std::vector<std::uint64_t>{12, 13, 14, 15, 16, 55, 56, 57, 58}));
}

TEST_F(OrderPlaces, ARowThatIsExpectedNowhereIsNone) {
  lay({0, 1, 2, 3, 4, 5, 6, 7, 8, kLoose, kLoose, kLoose, 12, 13, 14});
  EXPECT_EQ(infer({}, -1).size(), 3u);
  EXPECT_TRUE(infer({}, -3).empty());
}

TEST_F(OrderPlaces, AFileGoesOnElsewhereOnTheDisk) {
  std::vector<std::size_t> blocks = kSideBySide;
  blocks.insert(blocks.end(), 10, kLoose);
  blocks.push_back(63);
  lay(blocks);
  const std::set<std::uint64_t> in_use = {14, 15, 16, 17, 18, 52, 53, 54, 55, 56};
  EXPECT_TRUE(infer(in_use, 1).empty());
  EXPECT_EQ(infer(in_use, 1, {14, 15, 16, 17, 18, 52, 53, 54, 55, 56, 63}),
            (std::vector<std::uint64_t>{16, 17, 18, 52, 53, 54, 55, 56}));
  EXPECT_EQ(infer(in_use, 1, {11, 14, 15, 16, 17, 18, 52, 53, 54, 55, 56, 63}),
            (std::vector<std::uint64_t>{14, 15, 16, 17, 18, 52, 53, 54, 55, 56}));
}

}  // namespace
}  // namespace lantern
