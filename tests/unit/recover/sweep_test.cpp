// One pass over a disk: what finders are shown, and what they make of it.
#include "recover/sweep/sweep.h"

#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "kit/fat_builder.h"
#include "lantern/file_system.h"
#include "recover/sweep/finders/ntfs_finder.h"

namespace lantern {
namespace {

using kit::Bytes;

constexpr std::uint64_t kPieceBytes = 256u << 10;

class Shown final : public Finder {
 public:
  std::unique_ptr<Finder> fresh() const override { return std::make_unique<Shown>(); }
  void join(Finder& later) override {
    const auto& other = static_cast<Shown&>(later);
    pieces.insert(pieces.end(), other.pieces.begin(), other.pieces.end());
    marks.insert(marks.end(), other.marks.begin(), other.marks.end());
    seen_behind.insert(seen_behind.end(), other.seen_behind.begin(), other.seen_behind.end());
    longest = std::max(longest, other.longest);
  }
  void look(const SweptPiece& piece) override {
    pieces.push_back({piece.offset, piece.owned});
    longest = std::max(longest, piece.bytes.size());
    for (std::size_t at = 0; at < piece.owned; at += kSector)
      if (le32(piece.bytes, at) == 0x4B52414D) {  // "MARK"
        marks.push_back(piece.offset + at);
        seen_behind.push_back(piece.bytes.size() - at);
      }
  }
  std::vector<Range> pieces;  // what was owned
  std::vector<std::uint64_t> marks, seen_behind;
  std::size_t longest = 0;
};

void show(const SourcePtr& disk, Shown& finder, std::uint64_t from = 0) {
  Finder* const finders[] = {&finder};
  const Swept swept = sweep(*disk, {from, disk->size() - from}, finders, Context());
  EXPECT_EQ(swept.stopped_at, disk->size());
}

TEST(Sweep, EverySectorIsOwnedOnceAndSeenWithWhatIsBehind) {
  Bytes bytes = kit::pattern(3 * kPieceBytes + 1000, 1);
  for (const std::uint64_t at :
       {std::uint64_t{0}, kPieceBytes - 512, 2 * kPieceBytes, 3 * kPieceBytes})
    kit::put_text(bytes, at, "MARK");
  Shown finder;
  show(make_memory_source(bytes), finder);
  std::uint64_t at = 0;
  for (const Range& piece : finder.pieces) {
    EXPECT_EQ(piece.offset, at);
    at = piece.end();
  }
  EXPECT_EQ(at, bytes.size());
  EXPECT_EQ(finder.marks,
            (std::vector<std::uint64_t>{0, kPieceBytes - 512, 2 * kPieceBytes, 3 * kPieceBytes}));
  EXPECT_GE(finder.seen_behind[1], kLookAhead);
  EXPECT_LE(finder.longest, kPieceBytes + kLookAhead);
}

TEST(Sweep, BordersAreTheSameWhereverItBegins) {
  const SourcePtr disk = make_memory_source(kit::pattern(3 * kPieceBytes, 2));
  Shown whole, rest;
  show(disk, whole);
  show(disk, rest, kPieceBytes);
  EXPECT_EQ(std::vector<Range>(whole.pieces.begin() + 1, whole.pieces.end()), rest.pieces);
}

TEST(Sweep, HolesAreNotShown) {
  const SourcePtr disk =
      make_joined({{ExtentKind::direct, 4096, make_memory_source(kit::pattern(4096, 3)), 0},
                   {ExtentKind::zero, 1u << 30, nullptr, 0},
                   {ExtentKind::unreadable, 4096, nullptr, 0},
                   {ExtentKind::direct, 4096, make_memory_source(kit::pattern(4096, 4)), 0}});
  Shown finder;
  show(disk, finder);
  EXPECT_EQ(finder.pieces, (std::vector<Range>{{0, 4096}, {4096 + (1u << 30) + 4096, 4096}}));
}

// --- Records of NTFS ---

void put_record(Bytes& disk, std::size_t at, std::uint32_t number, bool numbered = true) {
  kit::put_text(disk, at, "FILE");
  kit::put(disk, at + 4, numbered ? 0x30 : 0x2A, 2);
  kit::put(disk, at + 6, 3, 2);
  kit::put(disk, at + 0x14, 0x38, 2);
  kit::put(disk, at + 0x18, 0x100, 4);
  kit::put(disk, at + 0x1C, 1024, 4);
  if (numbered) kit::put(disk, at + 0x2C, number, 4);
}

struct FoundRun {
  std::uint64_t offset, number, count;
  friend bool operator==(const FoundRun&, const FoundRun&) = default;
};

std::vector<FoundRun> runs_in(const Bytes& disk) {
  NtfsFinder finder;
  Finder* const finders[] = {&finder};
  sweep(*make_memory_source(disk), {0, disk.size()}, finders, Context());
  std::vector<FoundRun> runs;
  for (const RecordRun& run : finder.runs()) runs.push_back({run.offset, run.number, run.count});
  return runs;
}

TEST(NtfsFinder, RecordsThatCountOnAreOneRun) {
  Bytes disk(kPieceBytes + 65536);
  for (std::uint32_t i = 0; i < 8; ++i) put_record(disk, 1536 + i * 1024, 40 + i);
  put_record(disk, 1536 + 8 * 1024, 90);
  // Across the border of two pieces, and a sector before it.
  for (std::uint32_t i = 0; i < 4; ++i) put_record(disk, kPieceBytes - 1536 + i * 1024, 7 + i);
  EXPECT_EQ(runs_in(disk), (std::vector<FoundRun>{
                               {1536, 40, 8}, {1536 + 8192, 90, 1}, {kPieceBytes - 1536, 7, 4}}));
}

TEST(NtfsFinder, RecordsWithoutANumberHaveThatOfTheirPlace) {
  Bytes disk(65536);
  put_record(disk, 0, 0, false);
  put_record(disk, 1024, 0, false);
  put_record(disk, 2048, 30);
  put_record(disk, 3072, 0, false);
  // Alone it tells nothing.
  put_record(disk, 32768, 0, false);
  put_record(disk, 49152, 5);
  EXPECT_EQ(runs_in(disk), (std::vector<FoundRun>{{0, 28, 4}, {49152, 5, 1}}));
}

TEST(NtfsFinder, WhatCannotBeARecordIsNone) {
  Bytes disk(65536);
  put_record(disk, 0, 1);
  kit::put(disk, 0x1C, 1000, 4);  // its length
  put_record(disk, 1024, 2);
  kit::put(disk, 1024 + 0x18, 4096, 4);  // more used than there is
  put_record(disk, 2048, 3);
  kit::put(disk, 2048 + 0x14, 0x3000, 2);  // its first attribute
  kit::put_text(disk, 4096, "FILExxxx");
  EXPECT_TRUE(runs_in(disk).empty());
}

TEST(NtfsFinder, AMillionHeadersAreBounded) {
  NtfsFinder finder;
  Bytes piece(kPieceBytes);
  for (std::size_t at = 0; at + 1024 <= piece.size(); at += 1024) put_record(piece, at, 1);
  for (std::uint64_t i = 0; i < 5000; ++i) finder.look({i * piece.size(), piece, piece.size(), {}});
  EXPECT_EQ(finder.runs().size(), NtfsFinder::kMaxRuns);
  EXPECT_TRUE(finder.capped());
}

// --- FAT by figures that are given ---

TEST(FatByHand, WithoutTablesAndRootItsFoldersAreListed) {
  kit::FatBuilder builder(kit::FatBuilder::Width::fat16);
  const std::uint64_t counts = builder.folder(0, "Nest counts", {10});
  const Bytes content = kit::pattern(1500, 3);
  builder.file(10, "ledge.csv", content, {20, 21, 22});
  Bytes bytes = builder.bytes();
  std::fill_n(bytes.begin(), static_cast<long>(builder.cluster_offset(2)), std::byte{0});
  EXPECT_LT(counts, builder.cluster_offset(2));
  FileSystemOptions options;
  options.as = "fat";
  options.geometry = {{"bits", 16}, {"cluster", 512}, {"data", builder.cluster_offset(2)}};
  options.table_pieces = {{10, builder.cluster_offset(10), 512}};
  const auto files = open_file_system(make_memory_source(bytes), options, Context());
  ASSERT_TRUE(files);
  const auto found = files->find({"00000010", "ledge.csv"});
  ASSERT_EQ(found.size(), 1u);
  EXPECT_EQ(kit::read_all(*files->open(found.front()).bytes), content);
}

TEST(FatByHand, FiguresThatCannotBeAreRefusedOrHarmless) {
  const SourcePtr volume = make_memory_source(kit::pattern(65536, 5));
  const std::vector<std::uint64_t> hostile = {0,     1,     2,          511,    512,
                                              65535, 65536, 1u << 20,   ~0u,    ~std::uint64_t{0},
                                              16,    32,    1ull << 62, 0x7FFF, 12};
  std::uint64_t opened = 0;
  for (const char* const key :
       {"bits", "cluster", "data", "table", "table_bytes", "root", "root_bytes", "root_cluster"})
    for (const std::uint64_t value : hostile) {
      FileSystemOptions options;
      options.as = "fat";
      options.geometry = {{"bits", 16}, {"cluster", 512}, {"data", 512}};
      options.geometry[key] = value;
      options.table_pieces = {{value, value, value}, {2, 512, 512}};
      const auto files = open_file_system(volume, options, Context());
      if (!files) continue;
      ++opened;
      WalkOptions all;
      all.deleted = true;
      files->walk(all, [](const Entry&) { return WalkStep::go_on; });
      files->used_bytes();
    }
  EXPECT_GT(opened, 20u);
}

TEST(NtfsByHand, PiecesThatCannotBeAreHarmless) {
  const SourcePtr volume = make_memory_source(kit::pattern(65536, 6));
  for (const std::uint64_t value : {std::uint64_t{0}, std::uint64_t{1}, std::uint64_t{65535},
                                    std::uint64_t{1} << 62, ~std::uint64_t{0}}) {
    FileSystemOptions options;
    options.as = "ntfs";
    options.geometry = {{"cluster", 512}, {"table", 0}};
    options.table_pieces = {{value, 0, 1024}, {0, value, 1024}, {0, 0, value}, {1024, 512, 2048}};
    const auto files = open_file_system(volume, options, Context());
    if (!files) continue;
    WalkOptions all;
    all.deleted = true;
    files->walk(all, [](const Entry&) { return WalkStep::go_on; });
  }
}

}  // namespace
}  // namespace lantern
