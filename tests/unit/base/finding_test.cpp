#include "lantern/finding.h"

#include <gtest/gtest.h>

#include <set>

#include "kit/bytes.h"

namespace lantern {
namespace {

Finding finding(FindingCode code, const std::string& address, std::uint64_t at,
                Severity severity = Severity::note) {
  return {code, severity, address, {at, 1}, "said", {}};
}

TEST(FindingSink, SortsByAddressOffsetAndCode) {
  FindingSink sink;
  sink.add(finding(FindingCode::mbr_overlap, "b", 0));
  sink.add(finding(FindingCode::mbr_overlap, "a", 9));
  sink.add(finding(FindingCode::mbr_overlap, "a", 1));
  sink.add(finding(FindingCode::container_header, "a", 9));
  std::string seen;
  for (const Finding& one : sink.all())
    seen += one.address + std::to_string(one.range.offset) + std::string(to_string(one.code)) + " ";
  EXPECT_EQ(seen, "a1mbr.overlap a9container.header a9mbr.overlap b0mbr.overlap ");
}

TEST(FindingSink, ForwardsWhatItHasAndWhatComes) {
  FindingSink layer;
  layer.add(finding(FindingCode::mbr_overlap, "disk", 1));
  auto first = std::make_shared<FindingSink>();
  layer.forward_to(first);
  EXPECT_EQ(first->all().size(), 1u);
  const auto second = std::make_shared<FindingSink>();
  layer.forward_to(second);
  layer.add(finding(FindingCode::mbr_overlap, "disk", 2, Severity::damage));
  EXPECT_EQ(first->all().size(), 2u);
  EXPECT_EQ(second->all().size(), 2u);
  EXPECT_TRUE(second->worse_than_note());
  second->add(finding(FindingCode::mbr_overlap, "disk", 3));
  EXPECT_EQ(layer.all().size(), 2u) << "nothing comes back";
  first.reset();
  layer.add(finding(FindingCode::mbr_overlap, "disk", 4));
  EXPECT_EQ(layer.all().size(), 3u) << "a sink nobody holds is left out";
}

TEST(FindingSink, RepeatsAreNotForwarded) {
  FindingSink layer;
  const auto other = std::make_shared<FindingSink>();
  layer.forward_to(other);
  for (int i = 0; i < 3; ++i) layer.add(finding(FindingCode::mbr_overlap, "disk", 1));
  EXPECT_EQ(other->all().size(), 1u);
}

TEST(FindingSink, OfOneCodeInOneLayerIsAGroupWithItsWorst) {
  FindingSink sink;
  sink.add(finding(FindingCode::fat_chain_short, "disk", 9));
  sink.add(finding(FindingCode::fat_chain_short, "disk", 4, Severity::damage));
  sink.add(finding(FindingCode::fat_chain_short, "other", 1));
  sink.add(finding(FindingCode::fat_chain_loop, "disk", 1, Severity::warning));
  const std::vector<FindingGroup> groups = sink.groups();
  ASSERT_EQ(groups.size(), 3u);
  EXPECT_EQ(groups[0].findings.size(), 2u) << "the worst of a layer is first";
  EXPECT_EQ(groups[0].findings[0].range.offset, 4u);
  EXPECT_EQ(groups[0].severity, Severity::damage);
  EXPECT_EQ(groups[1].findings[0].code, FindingCode::fat_chain_loop);
  EXPECT_EQ(groups[2].findings[0].address, "other");
}

TEST(FindingSink, AGroupIsCountedPastWhatIsKeptAlsoWhereItIsForwarded) {
  FindingSink layer;
  const auto other = std::make_shared<FindingSink>();
  layer.forward_to(other);
  for (std::uint64_t i = 0; i < FindingSink::kMaxOfGroup + 500; ++i)
    layer.add(finding(FindingCode::fat_chain_short, "disk", i));
  layer.add(finding(FindingCode::fat_chain_loop, "disk", 1));
  for (const FindingSink* const sink : {&layer, other.get()}) {
    const std::vector<FindingGroup> groups = sink->groups();
    ASSERT_EQ(groups.size(), 2u) << "one kind does not crowd out another";
    EXPECT_EQ(groups[0].count, FindingSink::kMaxOfGroup + 500);
    EXPECT_EQ(groups[0].findings.size(), FindingSink::kMaxOfGroup);
  }
}

TEST(FindingSink, StopsAtItsCapAndSaysSo) {
  FindingSink sink(10);
  for (std::uint64_t i = 0; i < 20; ++i)
    sink.add(finding(FindingCode::fat_chain_short, std::to_string(i), i));
  ASSERT_EQ(sink.all().size(), 11u);
  EXPECT_EQ(sink.all().back().code, FindingCode::findings_capped);
  EXPECT_EQ(sink.groups().back().findings[0].code, FindingCode::findings_capped);
}

TEST(Finding, EveryCodeHasATextOfItsOwn) {
  std::set<std::string_view> texts;
  for (int code = 0; code <= static_cast<int>(FindingCode::findings_capped); ++code) {
    const std::string_view text = to_string(static_cast<FindingCode>(code));
    EXPECT_NE(text.find('.'), std::string_view::npos) << code;
    EXPECT_TRUE(texts.insert(text).second) << text;
  }
}

}  // namespace
}  // namespace lantern
