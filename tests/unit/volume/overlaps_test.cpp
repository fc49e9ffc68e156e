#include "volume/overlaps.h"

#include <gtest/gtest.h>

#include "kit/bytes.h"

namespace lantern {
namespace {

std::vector<std::string> overlaps(const std::vector<Range>& ranges) {
  VolumeTable table;
  for (const Range& range : ranges) {
    VolumeRow row;
    row.number = table.rows.size() + 1;
    row.range = range;
    table.rows.push_back(row);
  }
  const Context context;
  report_overlaps(table, FindingCode::gpt_overlap, context);
  std::vector<std::string> told;
  for (const Finding& finding : context.findings->all()) told.push_back(finding.message);
  return told;
}

TEST(Overlaps, VolumesSideBySideAreNone) {
  EXPECT_TRUE(overlaps({}).empty());
  EXPECT_TRUE(overlaps({{0, 10}, {10, 10}, {20, 1}}).empty());
  EXPECT_TRUE(overlaps({{20, 1}, {0, 10}, {10, 10}}).empty());
}

TEST(Overlaps, EachVolumeInsideAnotherIsToldOnce) {
  EXPECT_EQ(overlaps({{0, 10}, {9, 10}}), std::vector<std::string>{"volumes 1 and 2 overlap"});
  // The farthest one counts, not the one just before.
  EXPECT_EQ(overlaps({{0, 100}, {10, 10}, {50, 10}}),
            (std::vector<std::string>{"volumes 1 and 2 overlap", "volumes 1 and 3 overlap"}));
}

TEST(Overlaps, ManyVolumesInOneAreNoQuadraticWork) {
  std::vector<Range> ranges;
  for (std::uint64_t i = 0; i < 100'000; ++i) ranges.push_back({i, 1});
  EXPECT_TRUE(overlaps(ranges).empty());
}

}  // namespace
}  // namespace lantern
