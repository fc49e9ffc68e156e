// A disk of ten blocks behind one table, damaged in the table: what evidence places, and what is
// lost.
#include "container/mend.h"

#include <gtest/gtest.h>

#include <functional>

#include "kit/bytes.h"
#include "lantern/volume_table.h"

namespace lantern {
namespace {

constexpr std::uint64_t kBlock = 4096;
constexpr std::uint64_t kBlocks = 10;
constexpr std::uint64_t kData = 512;  // of the file: where blocks begin
using Codes = std::vector<std::string>;

// An entry is the number of the block in the file, counted from 1; 0: never written.
class PlainMap final : public BlockMap {
 public:
  explicit PlainMap(SourcePtr file) : table_(std::move(file), 0, 4) {}
  std::uint64_t mapped_bytes() const override { return kBlocks * kBlock; }
  bool runs(Range range, const RunVisitor& visit) const override {
    return table_.each(range.offset / kBlock, (range.end() - 1) / kBlock,
                       [&](std::uint64_t block, ByteView entry) {
                         const Range part = intersect(range, {block * kBlock, kBlock});
                         const std::uint32_t number = le32(entry, 0);
                         if (number == 0) return visit({Run::Kind::absent, part});
                         Run run{Run::Kind::stored, part};
                         run.file_offset = kData + (number - 1) * kBlock + part.offset % kBlock;
                         return visit(run);
                       });
  }

 private:
  EntryTable table_;
};

// Blocks stored last first; block 3 was never written.
kit::Bytes file_of_blocks() {
  kit::Bytes file(kData);
  std::uint32_t number = 0;
  for (std::uint32_t block = kBlocks; block-- > 0;) {
    if (block == 3) continue;
    kit::put(file, block * 4, ++number, 4);
    kit::put_bytes(file, kData + (number - 1) * kBlock, kit::pattern(kBlock, block));
  }
  return file;
}

OneTable table_of(const kit::Bytes& file) {
  OneTable table;
  table.format = "plain";
  table.disk_bytes = kBlocks * kBlock;
  table.block_bytes = kBlock;
  table.blocks = {kData, file.size() - kData};
  table.whole = {0, kBlocks * 4};
  table.entry = [](std::uint64_t block) { return Range{block * 4, 4}; };
  return table;
}

using Says = std::function<std::vector<PlaceClaim>(const LoosePieces& loose)>;

// Says the same whenever it is asked.
class Witness final : public PlaceFinder {
 public:
  Witness(const LoosePieces& loose, Says says) : loose_(loose), says_(std::move(says)) {}

  void look(std::size_t, std::uint64_t, ByteView) override { ++looked_; }
  std::vector<PlaceClaim> claims(const SourcePtr&, Expectations&) override {
    EXPECT_EQ(looked_, loose_.bytes.size() * kBlock / kSector) << "each sector is shown once";
    return says_(loose_);
  }

 private:
  const LoosePieces& loose_;
  const Says says_;
  std::size_t looked_ = 0;
};

Surroundings heard_by(const Says& says) {
  Surroundings around;
  around.evidence.push_back([says](const LoosePieces& loose, const Context&) {
    return std::make_unique<Witness>(loose, says);
  });
  return around;
}

// Knows a block by its contents, as a file system would.
std::vector<PlaceClaim> by_pattern(const LoosePieces& loose,
                                   const std::vector<std::uint32_t>& knows) {
  std::vector<PlaceClaim> claims;
  for (std::size_t i = 0; i < loose.bytes.size(); ++i)
    for (const std::uint32_t block : knows)
      if (kit::read_all(*loose.bytes[i]) == kit::pattern(kBlock, block))
        claims.push_back({i, block * kBlock, "it holds that pattern"});
  return claims;
}

struct Mended {
  kit::Bytes disk;
  std::vector<Range> lost;
  Codes codes;
};

Mended mend(const kit::Bytes& bytes, const std::vector<std::uint32_t>& knows,
            bool complete = false) {
  const Context context;
  const SourcePtr file = make_memory_source(bytes);
  OneTable table = table_of(bytes);
  table.complete = complete;
  const Surroundings around =
      heard_by([&](const LoosePieces& loose) { return by_pattern(loose, knows); });
  const auto map = mend_block_table(file, std::make_shared<PlainMap>(file), table, around, context);
  Mended mended;
  mended.disk = kit::read_all(
      *make_mapped_disk({file, map, kBlocks * kBlock, std::nullopt, nullptr, false}, context),
      &mended.lost);
  for (const Finding& finding : context.findings->all())
    mended.codes.emplace_back(to_string(finding.code));
  return mended;
}

kit::Bytes block_of(const kit::Bytes& disk, std::uint64_t block) {
  const auto from = disk.begin() + static_cast<std::ptrdiff_t>(block * kBlock);
  return {from, from + kBlock};
}

TEST(StructurePatch, AWholeTableIsLeftAlone) {
  const Mended mended = mend(file_of_blocks(), {});
  EXPECT_TRUE(mended.lost.empty());
  EXPECT_EQ(mended.codes, Codes{});
  EXPECT_EQ(block_of(mended.disk, 3), kit::Bytes(kBlock));
  EXPECT_EQ(block_of(mended.disk, 7), kit::pattern(kBlock, 7));
}

TEST(StructurePatch, AWipedTableIsFilledByEvidence) {
  kit::Bytes file = file_of_blocks();
  std::fill_n(file.begin(), kBlocks * 4, std::byte{0});
  const Mended mended = mend(file, {0, 1, 2, 4, 5, 6, 7, 8, 9});
  for (std::uint32_t block = 0; block < kBlocks; ++block) {
    if (block == 3) continue;
    EXPECT_EQ(block_of(mended.disk, block), kit::pattern(kBlock, block)) << block;
  }
  EXPECT_EQ(mended.lost, (std::vector<Range>{{3 * kBlock, kBlock}}))
      << "whether it was ever written cannot be told";
}

TEST(StructurePatch, AFileKnownToBeWholeTellsWhatWasNeverWritten) {
  kit::Bytes file = file_of_blocks();
  std::fill_n(file.begin(), kBlocks * 4, std::byte{0});
  EXPECT_TRUE(mend(file, {0, 1, 2, 4, 5, 6, 7, 8, 9}, true).lost.empty());
}

TEST(StructurePatch, ABlockWithoutEvidenceIsReportedAndNeverPlaced) {
  kit::Bytes file = file_of_blocks();
  std::fill_n(file.begin(), kBlocks * 4, std::byte{0});
  const Mended mended = mend(file, {0, 9});
  EXPECT_EQ(block_of(mended.disk, 0), kit::pattern(kBlock, 0));
  EXPECT_EQ(mended.lost, (std::vector<Range>{{kBlock, 8 * kBlock}}));
  EXPECT_NE(std::find(mended.codes.begin(), mended.codes.end(), "container.unplaced"),
            mended.codes.end());
}

TEST(StructurePatch, TwoBlocksInOnePlaceAreBothInDoubt) {
  kit::Bytes file = file_of_blocks();
  const kit::Bytes of_six(file.begin() + 24, file.begin() + 28);
  kit::put_bytes(file, 5 * 4, of_six);
  const Mended blind = mend(file, {});
  EXPECT_EQ(block_of(blind.disk, 7), kit::pattern(kBlock, 7));
  for (const Range& range : blind.lost)
    EXPECT_TRUE(range.offset >= 3 * kBlock && range.end() <= 7 * kBlock);
  EXPECT_FALSE(blind.lost.empty());
  const Mended seen = mend(file, {5, 6});
  EXPECT_EQ(block_of(seen.disk, 5), kit::pattern(kBlock, 5));
  EXPECT_EQ(block_of(seen.disk, 6), kit::pattern(kBlock, 6));
}

TEST(StructurePatch, WitnessesWhoDisagreeArePaidNoHeed) {
  kit::Bytes file = file_of_blocks();
  std::fill_n(file.begin(), kBlocks * 4, std::byte{0});
  const Context context;
  const SourcePtr source = make_memory_source(file);
  const Surroundings around = heard_by([](const LoosePieces& loose) {
    std::vector<PlaceClaim> claims = by_pattern(loose, {1});
    if (!claims.empty()) claims.push_back({claims[0].piece, 2 * kBlock, "no, here"});
    return claims;
  });
  const auto map =
      mend_block_table(source, std::make_shared<PlainMap>(source), table_of(file), around, context);
  std::vector<Range> lost;
  kit::read_all(
      *make_mapped_disk({source, map, kBlocks * kBlock, std::nullopt, nullptr, false}, context),
      &lost);
  EXPECT_EQ(lost, (std::vector<Range>{{0, kBlocks * kBlock}}));
}

TEST(StructurePatch, ClaimsOutsideTheDiskOrOffTheGridAreNone) {
  kit::Bytes file = file_of_blocks();
  std::fill_n(file.begin(), kBlocks * 4, std::byte{0});
  const Context context;
  const SourcePtr source = make_memory_source(file);
  const Surroundings around = heard_by([](const LoosePieces& loose) {
    std::vector<PlaceClaim> claims;
    for (std::size_t i = 0; i < loose.bytes.size(); ++i)
      claims.push_back({i, i % 2 == 0 ? kBlocks * kBlock * (i + 1) : kBlock + 512, "a lie"});
    return claims;
  });
  const auto map =
      mend_block_table(source, std::make_shared<PlainMap>(source), table_of(file), around, context);
  std::vector<Range> lost;
  kit::read_all(
      *make_mapped_disk({source, map, kBlocks * kBlock, std::nullopt, nullptr, false}, context),
      &lost);
  EXPECT_EQ(lost, (std::vector<Range>{{0, kBlocks * kBlock}}));
}

TEST(StructurePatch, WhatIsInferredCountsOnlyWhereNothingElseSpeaks) {
  kit::Bytes file = file_of_blocks();
  std::fill_n(file.begin(), kBlocks * 4, std::byte{0});
  const Context context;
  const SourcePtr source = make_memory_source(file);
  OneTable table = table_of(file);
  table.entry_for = [](std::optional<std::uint64_t> place) {
    kit::Bytes entry(4);
    kit::put(entry, 0, place ? (*place - kData) / kBlock + 1 : 0, 4);
    return entry;
  };
  // Block 1 by what it holds; an inference has block 2 there, and another place for block 4.
  Surroundings around = heard_by([](const LoosePieces& loose) {
    std::vector<PlaceClaim> claims = by_pattern(loose, {1});
    for (PlaceClaim claim : by_pattern(loose, {2, 4})) {
      claim.disk_offset -= kBlock;
      claim.inferred = true;
      claims.push_back(claim);
    }
    return claims;
  });
  std::vector<MendedEntry> mended;
  around.mended = [&](const MendedEntry& entry) { mended.push_back(entry); };
  mend_block_table(source, std::make_shared<PlainMap>(source), table, around, context);
  ASSERT_EQ(mended.size(), kBlocks);
  for (const MendedEntry& entry : mended) {
    const std::uint64_t block = entry.disk_offset / kBlock;
    EXPECT_EQ(entry.found, block == 1 || block == 3) << block;
    EXPECT_EQ(entry.inferred, block == 3) << block;
    ASSERT_EQ(entry.writes.size(), 1u);
    EXPECT_EQ(entry.writes[0].first, block * 4);
    // Blocks lie last first, without number 3: block 1 is the eighth, block 4 the sixth.
    const std::uint32_t number = block == 1 ? 8 : block == 3 ? 6 : 0;
    EXPECT_EQ(le32(entry.writes[0].second, 0), number) << block;
  }
}

}  // namespace
}  // namespace lantern
