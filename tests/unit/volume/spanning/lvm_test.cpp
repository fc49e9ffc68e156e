#include <gtest/gtest.h>

#include <fmt/format.h>

#include "kit/bytes.h"
#include "lantern/error.h"
#include "volume/lvm/assemble.h"
#include "volume/lvm/group.h"
#include "volume/lvm/header.h"

namespace lantern::lvm {
namespace {

using kit::Bytes;

constexpr std::size_t kArea = 4096, kAreaBytes = 64 << 10, kData = 128 << 10, kExtent = 64 << 10;
const std::string kPv[2] = {"aaaaaa-aaaa-aaaa-aaaa-aaaa-aaaa-aaaaaa",
                            "bbbbbb-bbbb-bbbb-bbbb-bbbb-bbbb-bbbbbb"};

std::string volumes_text(const std::string& body) {
  std::string text =
      "skerrow {\nid = \"cccccc-cccc-cccc-cccc-cccc-cccc-cccccc\"\nseqno = {}\n"
      "extent_size = 128\nphysical_volumes {\n";
  for (int i = 0; i < 2; ++i)
    text += "pv" + std::to_string(i) + " {\nid = \"" + kPv[i] +
            "\"\ndev_size = 2048\npe_start = 256\npe_count = 14\n}\n";
  return text + "}\nlogical_volumes {\n" + body + "}\n}\n# made by hand\ncreation_time = 7\n";
}

std::string volume(const std::string& name, const std::string& segments) {
  return name + " {\nid = \"" + name + "\"\nstatus = [\"READ\", \"VISIBLE\"]\n" + segments + "}\n";
}

std::string linear(const std::string& pv, int from, int count, int start = 0) {
  return fmt::format(
      "segment1 {{\nstart_extent = {}\nextent_count = {}\ntype = \"striped\"\nstripe_count = 1\n"
      "stripes = [\"{}\", {}]\n}}\n",
      start, count, pv, from);
}

std::string numbered(std::string text, int number) {
  const std::size_t at = text.find("{}");
  return text.replace(at, 2, std::to_string(number));
}

// Physical volume `which`, its texts in the ring, the last one current.
Bytes physical(int which, const std::vector<std::string>& texts) {
  Bytes disk(kData + 14 * kExtent);
  kit::put_text(disk, 512, "LABELONE");
  kit::put(disk, 512 + 8, 1, 8);
  kit::put(disk, 512 + 20, 32, 4);
  kit::put_text(disk, 512 + 24, "LVM2 001");
  kit::put_text(disk, 512 + 32, plain_id(kPv[which]));
  kit::put(disk, 512 + 64, disk.size(), 8);
  kit::put(disk, 512 + 72, kData, 8);
  kit::put(disk, 512 + 104, kArea, 8);
  kit::put(disk, 512 + 112, kAreaBytes, 8);
  kit::put(disk, 512 + 16, sum_of(&disk[512 + 20], 492), 4);
  std::size_t at = 512;
  for (std::size_t i = 0; i < texts.size(); ++i) {
    kit::put_text(disk, kArea + at, texts[i]);
    if (i + 1 == texts.size()) {
      kit::put_text(disk, kArea + 4, " LVM2 x[5A%r0N*>");
      kit::put(disk, kArea + 20, 1, 4);
      kit::put(disk, kArea + 24, kArea, 8);
      kit::put(disk, kArea + 32, kAreaBytes, 8);
      kit::put(disk, kArea + 40, at, 8);
      kit::put(disk, kArea + 48, texts[i].size(), 8);
      kit::put(disk, kArea + 56, sum_of(&disk[kArea + at], texts[i].size()), 4);
      kit::put(disk, kArea, sum_of(&disk[kArea + 4], 508), 4);
    }
    at += (texts[i].size() / 512 + 1) * 512;
  }
  const Bytes content = kit::pattern(14 * kExtent, static_cast<std::uint32_t>(which + 1));
  kit::put_bytes(disk, kData, content);
  return disk;
}

Bytes content_of(int pv, std::size_t from, std::size_t count) {
  const Bytes all = kit::pattern(14 * kExtent, static_cast<std::uint32_t>(pv + 1));
  return {all.begin() + static_cast<std::ptrdiff_t>(from * kExtent),
          all.begin() + static_cast<std::ptrdiff_t>((from + count) * kExtent)};
}

std::vector<SpannedSet> group(const std::string& body, bool both = true) {
  const std::string text = numbered(volumes_text(body), 3);
  std::vector<Member> members = {{"a", make_memory_source(physical(0, {text}))}};
  if (both) members.push_back({"b", make_memory_source(physical(1, {text}))});
  return assemble(members, Context());
}

TEST(LvmText, BreaksOffWithoutHarm) {
  const std::string text = numbered(volumes_text(volume("keeper", linear("pv0", 0, 2))), 3);
  ASSERT_TRUE(read_group(text));
  EXPECT_EQ(read_group(text)->volumes.front().name, "keeper");
  EXPECT_EQ(read_group(text)->written, 7u);
  for (std::size_t length = 0; length < text.size(); ++length) {
    // Whole from where only the comment and the time are cut off.
    const auto cut = read_group(text.substr(0, length));
    EXPECT_EQ(cut.has_value(), length + 36 > text.size() && cut.has_value()) << length;
  }
  EXPECT_FALSE(parse_text("a { b { c = 1 }"));
  EXPECT_FALSE(parse_text("a = [ 1, 2"));
  EXPECT_FALSE(parse_text("a = \"open"));
  std::string deep;
  for (int i = 0; i < 100'000; ++i) deep += "a{";
  EXPECT_FALSE(parse_text(deep));
}

TEST(LvmGroup, VolumesLieWhereTheirSegmentsSay) {
  const auto sets = group(volume("keeper", linear("pv0", 5, 2) + linear("pv1", 1, 3, 2)));
  ASSERT_EQ(sets.size(), 1u);
  ASSERT_EQ(sets[0].volumes.size(), 1u);
  Bytes expected = content_of(0, 5, 2);
  const Bytes rest = content_of(1, 1, 3);
  expected.insert(expected.end(), rest.begin(), rest.end());
  EXPECT_EQ(kit::read_all(*sets[0].volumes[0].bytes), expected);
  EXPECT_EQ(sets[0].volumes[0].state, SetState::complete);
}

TEST(LvmGroup, WithoutAPhysicalVolumeKeepsItsGaps) {
  const auto sets = group(volume("keeper", linear("pv0", 5, 2) + linear("pv1", 1, 3, 2)), false);
  std::vector<Range> lost;
  kit::read_all(*sets[0].volumes[0].bytes, &lost);
  ASSERT_FALSE(lost.empty());
  EXPECT_EQ(lost.front().offset, 2 * kExtent);
  EXPECT_EQ(sets[0].volumes[0].state, SetState::incomplete);
  EXPECT_EQ(sets[0].findings[0].code, FindingCode::lvm_member_missing);
}

TEST(LvmGroup, MadeOfItselfSaysSo) {
  const auto sets = group(volume("a", linear("b", 0, 2)) + volume("b", linear("a", 0, 2)));
  for (const SpannedVolume& one : sets[0].volumes) {
    EXPECT_FALSE(one.bytes) << one.name;
    EXPECT_EQ(one.why_not, "its segments lead back to itself");
  }
}

TEST(LvmGroup, WithAbsurdFiguresGivesNoBytesThatAreNotThere) {
  const std::string huge =
      "segment1 {\nstart_extent = 0\nextent_count = 1099511627776\ntype = \"striped\"\n"
      "stripe_count = 1\nstripes = [\"pv0\", 0]\n}\n";
  const auto sets = group(volume("huge", huge) + volume("none", "") +
                          volume("odd",
                                 "segment1 {\nstart_extent = 0\nextent_count = 2\n"
                                 "type = \"striped\"\nstripes = [\"pv0\"]\n}\n"));
  ASSERT_EQ(sets[0].volumes.size(), 3u);
  EXPECT_EQ(sets[0].volumes[0].state, SetState::incomplete);
  EXPECT_EQ(sets[0].volumes[0].findings[0].code, FindingCode::lvm_volume);
  for (const std::size_t i : {std::size_t{1}, std::size_t{2}}) {
    EXPECT_FALSE(sets[0].volumes[i].bytes) << i;
    EXPECT_FALSE(sets[0].volumes[i].why_not.empty()) << i;
  }
}

TEST(LvmGroup, OlderDescriptionsTellWhatWasRemoved) {
  const std::string before = numbered(
      volumes_text(volume("keeper", linear("pv0", 0, 2)) + volume("gone", linear("pv1", 4, 2))), 3);
  const std::string after = numbered(volumes_text(volume("keeper", linear("pv0", 0, 2))), 4);
  const std::vector<Member> members = {{"a", make_memory_source(physical(0, {before, after}))},
                                       {"b", make_memory_source(physical(1, {before, after}))}};
  const auto sets = assemble(members, Context());
  ASSERT_EQ(sets[0].versions.size(), 1u);
  EXPECT_EQ(sets[0].versions[0].removed, std::vector<std::string>{"gone"});
  const SpannedSet then = sets[0].open_version("3");
  ASSERT_EQ(then.volumes.size(), 2u);
  EXPECT_EQ(kit::read_all(*then.volumes[1].bytes), content_of(1, 4, 2));
  EXPECT_THROW(sets[0].open_version("9"), Error);
}

TEST(LvmGroup, SaysWhatOfARemovedVolumeBelongsToOthersNow) {
  const std::string before = numbered(volumes_text(volume("gone", linear("pv0", 4, 6))), 3);
  const std::string after = numbered(volumes_text(volume("new", linear("pv0", 8, 4))), 4);
  const auto sets = assemble({{"a", make_memory_source(physical(0, {before, after}))}}, Context());
  const SpannedSet then = sets[0].open_version("3");
  ASSERT_EQ(then.volumes.at(0).findings.size(), 1u);
  EXPECT_EQ(then.volumes[0].findings[0].code, FindingCode::lvm_volume);
  EXPECT_EQ(then.volumes[0].findings[0].message, "2 of its 6 extents belong to other volumes now");
}

TEST(LvmGroup, TheNewestOfItsCopiesCounts) {
  const std::string before = numbered(volumes_text(volume("old", linear("pv0", 0, 2))), 3);
  const std::string after = numbered(volumes_text(volume("new", linear("pv0", 0, 2))), 4);
  const std::vector<Member> members = {{"a", make_memory_source(physical(0, {before}))},
                                       {"b", make_memory_source(physical(1, {before, after}))}};
  const auto sets = assemble(members, Context());
  EXPECT_EQ(sets[0].volumes[0].name, "new");
  EXPECT_EQ(sets[0].findings[0].code, FindingCode::lvm_metadata);
  EXPECT_EQ(sets[0].findings[0].address, "a");
}

TEST(LvmHeader, EveryBitFlippedIsNoHarm) {
  const std::string text = numbered(volumes_text(volume("keeper", linear("pv0", 0, 2))), 3);
  const Bytes whole = physical(0, {text});
  const auto flip = [&](std::size_t from, std::size_t bytes) {
    for (std::size_t bit = 0; bit < bytes * 8; ++bit) {
      Bytes flipped = whole;
      flipped[from + bit / 8] ^= std::byte{1} << bit % 8;
      for (const SpannedSet& set : assemble({{"a", make_memory_source(flipped)}}, Context()))
        for (const SpannedVolume& one : set.volumes) {
          Bytes piece(4096);
          if (one.bytes) one.bytes->read(0, piece);
        }
    }
  };
  flip(512, 160);
  flip(kArea, 72);
  flip(kArea + 512, text.size() / 4);
}

}  // namespace
}  // namespace lantern::lvm
