#include <gtest/gtest.h>

#include "base/block_cache.h"
#include "base/bytes.h"
#include "base/checked.h"
#include "base/sha256.h"
#include "kit/bytes.h"
#include "lantern/context.h"
#include "lantern/error.h"
#include "lantern/timestamp.h"

namespace lantern {
namespace {

TEST(Bytes, ReadsLittleEndianAndNeverPastTheEnd) {
  kit::Bytes bytes;
  kit::put(bytes, 0, 0x1122334455667788, 8);
  EXPECT_EQ(le64(bytes, 0), 0x1122334455667788u);
  EXPECT_EQ(le16(bytes, 6), 0x1122u);
  EXPECT_THROW(le32(bytes, 5), std::out_of_range);
  EXPECT_THROW(slice(bytes, ~std::size_t{0}, 2), std::out_of_range);
}

TEST(Checked, OverflowIsAnEmptyAnswer) {
  EXPECT_EQ(checked_add(~0ull, 1), std::nullopt);
  EXPECT_EQ(checked_mul(1ull << 33, 1ull << 31), std::nullopt);
  EXPECT_EQ(checked_mul(3, 5), 15u);
  EXPECT_EQ(divide_up(~0ull, 2), 1ull << 63);
}

TEST(Range, EndsAndIntersectionsDoNotWrap) {
  EXPECT_EQ((Range{~0ull - 1, 10}.end()), ~0ull);
  EXPECT_EQ(intersect({10, 10}, {15, 100}), (Range{15, 5}));
  EXPECT_TRUE(intersect({0, 5}, {5, 5}).empty());
}

TEST(Timestamp, KnowsTheCalendar) {
  EXPECT_EQ(seconds_of(1970, 1, 1, 0, 0, 0), 0);
  EXPECT_EQ(seconds_of(2026, 3, 14, 8, 30, 2), 1773477002);
  EXPECT_EQ(seconds_of(2026, 2, 29, 0, 0, 0), std::nullopt);
  EXPECT_EQ(seconds_of(2026, 0, 1, 0, 0, 0), std::nullopt);
  EXPECT_EQ(to_iso8601({1773477002, 120'000'000, 10'000'000, true}), "2026-03-14T08:30:02.12");
  EXPECT_EQ(to_iso8601({-1, 0, 1, false}), "1969-12-31T23:59:59Z");
}

TEST(Sha256, IsThatOfTheStandard) {
  EXPECT_EQ(sha256_hex("abc"), "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
}

TEST(FindingSink, DropsRepeatsAndStopsAtItsCap) {
  Context context;
  context.findings = std::make_shared<FindingSink>(3);
  for (int round = 0; round < 2; ++round)
    context.report(FindingCode::container_header, Severity::note, {7, 1}, "again");
  EXPECT_EQ(kit::codes(context), (std::vector<std::string>{"container.header@7"}));
  EXPECT_FALSE(context.findings->worse_than_note());
  for (std::uint64_t i = 0; i < 100; ++i)
    context.report(FindingCode::mbr_overlap, Severity::damage, {i, 1}, "many");
  EXPECT_EQ(kit::codes(context),
            (std::vector<std::string>{"mbr.overlap@0", "mbr.overlap@1", "container.header@7",
                                      "findings.capped@0"}));
  EXPECT_TRUE(context.findings->worse_than_note());
}

TEST(BlockCache, HoldsItsBoundAndForgetsTheOldest) {
  BlockCache cache(1000);
  const auto block = [](std::size_t bytes) {
    auto made = std::make_shared<BlockCache::Block>();
    made->bytes.resize(bytes);
    return made;
  };
  const std::uint64_t source = cache.new_source_number();
  cache.insert(source, 0, block(400));
  cache.insert(source, 1, block(400));
  EXPECT_NE(cache.find(source, 0), nullptr);  // now the one used last
  cache.insert(source, 2, block(400));
  EXPECT_EQ(cache.find(source, 1), nullptr);
  EXPECT_NE(cache.find(source, 0), nullptr);
  EXPECT_EQ(cache.held_bytes(), 800u);
  cache.insert(source, 3, block(5000));  // larger than all: not kept
  EXPECT_EQ(cache.held_bytes(), 800u);
  EXPECT_EQ(cache.find(cache.new_source_number(), 0), nullptr);
}

TEST(Error, SaysWhereAndWhatNextInOneLine) {
  const Error error(ErrorCode::cannot_read, "disk.vdi", 340, "vdi: the map is outside",
                    "look with ::bytes");
  EXPECT_STREQ(error.what(), "disk.vdi: vdi: the map is outside (at byte 340); look with ::bytes");
}

}  // namespace
}  // namespace lantern
