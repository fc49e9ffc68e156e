#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "kit/md_builder.h"
#include "lantern/error.h"
#include "source/writable_source.h"
#include "volume/md/assemble.h"

namespace lantern::md {
namespace {

using kit::Bytes;
using kit::MdMember;

constexpr std::size_t kContent = 32 * 4096;

class MdArray : public ::testing::Test {
 protected:
  MdArray() {
    for (std::uint32_t i = 0; i < 3; ++i) made_[i].device = i;
  }

  std::vector<Member> members(const std::vector<std::size_t>& which) const {
    std::vector<Member> all;
    for (const std::size_t i : which) {
      const SourcePtr bytes = make_memory_source(kit::md_member(made_[i], data_[i]));
      auto super = find_superblock(*bytes);
      EXPECT_TRUE(super) << i;
      if (super) all.push_back({"member " + std::to_string(i), bytes, std::move(*super)});
    }
    return all;
  }

  static std::vector<FindingCode> codes(const SpannedSet& set) {
    std::vector<FindingCode> all;
    for (const Finding& finding : set.findings) all.push_back(finding.code);
    return all;
  }

  const Bytes content_ = kit::pattern(kContent, 3);
  const std::vector<Bytes> data_ = kit::md_data(content_);
  std::vector<MdMember> made_ = std::vector<MdMember>(3);
};

TEST_F(MdArray, IsReadWhateverTheOrderOfItsMembers) {
  const SpannedSet set = assemble(members({2, 0, 1}));
  EXPECT_EQ(set.state, SetState::complete);
  EXPECT_EQ(set.name, "skerrow:lamp");
  ASSERT_EQ(set.members.size(), 3u);
  EXPECT_EQ(set.members[0].address, "member 0");
  EXPECT_EQ(set.volumes[0].type, "RAID 5, left-symmetric, chunks of 4.0 KiB");
  EXPECT_EQ(kit::read_all(*set.volumes[0].bytes), content_);
  EXPECT_TRUE(set.findings.empty());
}

TEST_F(MdArray, WithAMemberMissingIsComputed) {
  const SpannedSet set = assemble(members({0, 2}));
  EXPECT_EQ(set.state, SetState::degraded);
  EXPECT_EQ(set.members[1].state, MemberState::missing);
  EXPECT_EQ(kit::read_all(*set.volumes[0].bytes), content_);
  EXPECT_EQ(codes(set), std::vector{FindingCode::array_member_missing});
}

TEST_F(MdArray, TakesNoWritesWhileAMemberIsAbsentThatTheOthersExpect) {
  const auto write = [](const SpannedSet& set) {
    return dynamic_cast<const WritableSource&>(*set.volumes[0].bytes).translate(0, Bytes(512));
  };
  EXPECT_EQ(write(assemble(members({0, 1, 2}))).writes.size(), 2u) << "the data and the parity";
  EXPECT_THROW(write(assemble(members({0, 2}))), Error);
  // The others record that it failed.
  for (MdMember& member : made_) member.roles = {0, kFailed, 2};
  EXPECT_EQ(write(assemble(members({0, 2}))).covered, 512u);
  for (MdMember& member : made_) member.in_step = 0;
  EXPECT_THROW(write(assemble(members({0, 2}))), Error) << "not closed cleanly";
}

TEST_F(MdArray, LeavesOutAMemberThatWentEarlier) {
  made_[1].events = 4;
  const SpannedSet set = assemble(members({0, 1, 2}));
  EXPECT_EQ(set.members[1].state, MemberState::stale);
  EXPECT_EQ(set.state, SetState::degraded);
  EXPECT_EQ(kit::read_all(*set.volumes[0].bytes), content_);
  // One event apart is how the kernel stops.
  made_[1].events = 9;
  EXPECT_EQ(assemble(members({0, 1, 2})).state, SetState::complete);
}

TEST_F(MdArray, BelievesTheNewestAboutTheOthers) {
  made_[0].roles = made_[2].roles = {0, kFailed, 2};
  const SpannedSet set = assemble(members({0, 1, 2}));
  EXPECT_EQ(set.members[1].state, MemberState::failed) << "what it says of itself does not count";
}

TEST_F(MdArray, TakesOneOfTwoSourcesInAPlace) {
  std::vector<Member> all = members({0, 1, 1, 2});
  all[2].address = "copy";
  const SpannedSet set = assemble(all);
  EXPECT_EQ(set.state, SetState::complete);
  EXPECT_EQ(codes(set), std::vector{FindingCode::array_slot_twice});
  EXPECT_EQ(set.members[2].state, MemberState::twice);
  EXPECT_EQ(kit::read_all(*set.volumes[0].bytes), content_);
}

TEST_F(MdArray, ReadsAMemberThatIsRebuiltAsFarAsItWas) {
  made_[1].features = 2;
  std::vector<Member> all = members({0, 1});
  ASSERT_TRUE(all[1].super.rebuilt_bytes) << "its field is 0: nothing yet";
  all[1].super.rebuilt_bytes = 4 * 4096;
  std::vector<Range> lost;
  kit::read_all(*assemble(all).volumes[0].bytes, &lost);
  ASSERT_FALSE(lost.empty());
  EXPECT_GE(lost.front().offset, 8u * 4096u) << "rows 0 to 3 have all they need";
}

TEST_F(MdArray, BeyondRepairGivesWhatIsLeftAndNoZeros) {
  const SpannedSet set = assemble(members({2}));
  EXPECT_EQ(set.state, SetState::incomplete);
  std::vector<Range> lost;
  Bytes read = kit::read_all(*set.volumes[0].bytes, &lost);
  std::uint64_t lost_bytes = 0;
  for (const Range& range : lost) {
    lost_bytes += range.length;
    std::copy_n(content_.begin() + static_cast<std::ptrdiff_t>(range.offset), range.length,
                read.begin() + static_cast<std::ptrdiff_t>(range.offset));
  }
  EXPECT_EQ(read, content_);
  // Member 2 has parity in rows 0, 3, 6, ...: of 16 rows 6, and one chunk of each other row.
  EXPECT_EQ(lost_bytes, (32u - 10u) * 4096u);
}

TEST_F(MdArray, WhoseFiguresCannotBeIsNotOpened) {
  const auto why = [&] {
    const SpannedSet set = assemble(members({0, 1, 2}));
    EXPECT_EQ(set.state, SetState::unusable);
    EXPECT_FALSE(set.volumes[0].bytes);
    return set.volumes[0].why_not;
  };
  for (MdMember& member : made_) member.chunk_sectors = 0;
  EXPECT_EQ(why(), "invalid chunk size 0");
  for (MdMember& member : made_) member.chunk_sectors = 8, member.layout = 77;
  EXPECT_EQ(why(), "invalid layout 77");
  for (MdMember& member : made_) member.layout = 2, member.members = 1;
  EXPECT_EQ(why(), "1 members");
}

TEST(MdSuperblock, WithAbsurdFiguresIsNone) {
  MdMember member;
  member.members = ~0u;
  const auto found = [&] {
    return find_superblock(*make_memory_source(kit::md_member(member, Bytes(65536)))).has_value();
  };
  EXPECT_FALSE(found()) << "2^32 members";
  member.members = 3;
  EXPECT_TRUE(found());
  member.data_sectors = ~std::uint64_t{0};
  EXPECT_FALSE(found());
  member.data_sectors = 128;
  member.level = 3;
  EXPECT_TRUE(found()) << "a level that is not read is still a superblock";
  member.level = 1000;
  EXPECT_FALSE(found());
}

TEST(MdSuperblock, WithAWrongSumIsReadAndSaidSo) {
  Bytes member = kit::md_member({}, Bytes(65536));
  member[4096 + 200] = std::byte{0x77};
  auto super = find_superblock(*make_memory_source(member));
  ASSERT_TRUE(super);
  EXPECT_FALSE(super->sum_is_right);
  kit::fix_md_sum(member);
  EXPECT_TRUE(find_superblock(*make_memory_source(member))->sum_is_right);
}

TEST(MdSuperblock, EveryBitFlippedIsNoHarm) {
  const Bytes whole = kit::md_member({}, Bytes(65536));
  for (std::size_t bit = 0; bit < 262 * 8; ++bit) {
    Bytes flipped = whole;
    flipped[4096 + bit / 8] ^= std::byte{1} << bit % 8;
    kit::fix_md_sum(flipped);
    const SourcePtr bytes = make_memory_source(flipped);
    auto super = find_superblock(*bytes);
    if (!super) continue;
    const SpannedSet set = assemble({{"member", bytes, std::move(*super)}});
    if (!set.volumes[0].bytes) continue;
    Bytes piece(8192);
    set.volumes[0].bytes->read(0, piece);
    set.volumes[0].bytes->read(set.volumes[0].bytes->size() - 1, piece);
    std::size_t extents = 0;
    set.volumes[0].bytes->extents({0, set.volumes[0].bytes->size()},
                                  [&](const Extent&) { return ++extents < 1000; });
  }
}

}  // namespace
}  // namespace lantern::md
