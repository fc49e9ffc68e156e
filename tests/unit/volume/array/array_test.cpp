#include "volume/array/array.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <random>

#include "kit/bytes.h"
#include "lantern/error.h"
#include "lantern/scratch.h"
#include "source/failing_source.h"
#include "source/writable_source.h"

namespace lantern::array {
namespace {

using kit::Bytes;

constexpr std::uint64_t kChunk = 4096;
constexpr std::uint64_t kMember = 16 * kChunk;

Geometry shape(int level, const std::string& layout, std::uint32_t members) {
  return {level, layout_by_name(level, layout).value_or(0), kChunk, members, kMember};
}

SourcePtr failing(SourcePtr source, std::vector<Range> unreadable) {
  FaultPlan plan;
  plan.unreadable = std::move(unreadable);
  return std::make_shared<FailingSource>(std::move(source), std::move(plan),
                                         [](std::chrono::milliseconds) {});
}

// Members of zeros, which any layout agrees with, that take writes beside their files.
class WrittenArray : public ::testing::TestWithParam<Geometry> {
 protected:
  WrittenArray() {
    context_.scratch = Scratch::in_memory(0);
    for (std::uint32_t i = 0; i < GetParam().members; ++i)
      members_.push_back(
          open_file_source(folder_.file("member " + std::to_string(i), Bytes(kMember)), context_));
  }

  // Writes of random places and lengths; what the array holds then.
  Bytes write_all() {
    const SourcePtr array = make_array(GetParam(), members_);
    Bytes content(static_cast<std::size_t>(array->size()));
    std::mt19937 random(11);
    for (std::uint32_t i = 0; i < 60; ++i) {
      const std::size_t at = random() % content.size();
      const std::size_t length = std::min<std::size_t>(1 + random() % 20'000, content.size() - at);
      const Bytes bytes = kit::pattern(length, i + 1);
      write_through(array, at, bytes);
      std::copy(bytes.begin(), bytes.end(), content.begin() + static_cast<std::ptrdiff_t>(at));
    }
    return content;
  }

  kit::Folder folder_;
  Context context_;
  std::vector<SourcePtr> members_;
};

TEST_P(WrittenArray, GivesBackWhatWasWrittenWithEveryMemberThatMayBeMissing) {
  const Bytes content = write_all();
  EXPECT_TRUE(kit::read_all(*make_array(GetParam(), members_)) == content);
  const std::uint32_t spare = spare_members(GetParam());
  for (std::uint32_t a = 0; a < GetParam().members && spare > 0; ++a)
    for (std::uint32_t b = a; b < GetParam().members && (b == a || spare > 1); ++b) {
      auto left = members_;
      left[a] = left[b] = nullptr;
      std::vector<Range> lost;
      EXPECT_TRUE(kit::read_all(*make_array(GetParam(), left), &lost) == content)
          << "without " << a << " and " << b;
      EXPECT_TRUE(lost.empty());
    }
}

TEST_P(WrittenArray, WithTooManyMissingSaysWhatIsLostAndNothingElseIs) {
  const Bytes content = write_all();
  auto left = members_;
  for (std::uint32_t i = 0; i <= spare_members(GetParam()); ++i) left[i] = nullptr;
  std::vector<Range> lost;
  Bytes read = kit::read_all(*make_array(GetParam(), left), &lost);
  std::uint64_t lost_bytes = 0;
  Bytes expected = content;
  for (const Range& range : lost) {
    lost_bytes += range.length;
    std::fill_n(expected.begin() + static_cast<std::ptrdiff_t>(range.offset), range.length,
                std::byte{0});
  }
  EXPECT_TRUE(read == expected);
  EXPECT_GT(lost_bytes, 0u);
  // The extents say the same without reading.
  std::uint64_t unreadable = 0;
  make_array(GetParam(), left)->extents({0, content.size()}, [&](const Extent& extent) {
    if (extent.kind == ExtentKind::unreadable) unreadable += extent.range.length;
    return true;
  });
  EXPECT_EQ(unreadable, lost_bytes);
}

TEST_P(WrittenArray, ComputesWhatAFailingMemberCannotGive) {
  const Bytes content = write_all();
  if (spare_members(GetParam()) == 0) GTEST_SKIP() << "no redundancy";
  auto members = members_;
  members[0] = failing(members_[0], {{kChunk + 512, 1024}, {9 * kChunk - 512, 2048}});
  std::vector<Range> lost;
  const Bytes read = kit::read_all(*make_array(GetParam(), members), &lost);
  std::size_t different = 0, first = 0;
  for (std::size_t i = content.size(); i-- > 0;)
    if (read[i] != content[i]) first = i, ++different;
  EXPECT_EQ(different, 0u) << "from " << first;
  EXPECT_TRUE(lost.empty());
}

std::vector<Geometry> shapes() {
  std::vector<Geometry> all = {shape(0, "", 3), shape(1, "", 3), shape(4, "", 4)};
  for (const char* const layout : {"left-asymmetric", "right-asymmetric", "left-symmetric",
                                   "right-symmetric", "parity-first", "parity-last"}) {
    all.push_back(shape(5, layout, 4));
    all.push_back(shape(6, layout, 5));
  }
  for (const char* const layout :
       {"ddf-zero-restart", "ddf-N-restart", "ddf-N-continue", "left-asymmetric-6",
        "right-asymmetric-6", "left-symmetric-6", "right-symmetric-6", "parity-first-6"})
    all.push_back(shape(6, layout, 5));
  for (const char* const layout : {"n2", "f2", "o2", "n3", "f3", "o3"}) {
    all.push_back(shape(10, layout, 4));
    all.push_back(shape(10, layout, 5));
  }
  return all;
}

INSTANTIATE_TEST_SUITE_P(All, WrittenArray, ::testing::ValuesIn(shapes()));

TEST(ParityArray, WithoutAMemberDividesAStretchWhereAnotherFailsToo) {
  const kit::Folder folder;
  std::vector<SourcePtr> members;
  for (std::uint32_t i = 0; i < 3; ++i)
    members.push_back(make_memory_source(kit::pattern(kMember, i + 1)));
  members[1] = failing(members[1], {{512, 512}});
  members[2] = nullptr;  // of the first row it has the parity, of the second data
  const Geometry geometry = shape(5, "left-symmetric", 3);
  std::vector<Range> lost;
  kit::read_all(*make_array(geometry, members), &lost);
  // Data chunk 1 of row 0 is on member 1: 512 bytes of it are gone.
  ASSERT_EQ(lost.size(), 1u);
  EXPECT_EQ(lost[0], (Range{kChunk + 512, 512}));
}

TEST(Striped, HasZonesWhereMembersAreOfDifferentSizes) {
  // Two chunks, three and four: rows over all, over two, and over the last alone.
  std::vector<SourcePtr> members;
  for (std::uint32_t i = 0; i < 3; ++i) {
    Bytes bytes;
    for (std::uint32_t chunk = 0; chunk < 2 + i; ++chunk) {
      const Bytes piece(kChunk, std::byte(16 * (i + 1) + chunk));
      bytes.insert(bytes.end(), piece.begin(), piece.end());
    }
    members.push_back(make_memory_source(bytes));
  }
  Geometry geometry{0, kZonesNew, kChunk, 3, 0};
  const std::vector<std::uint64_t> sizes = {2 * kChunk, 3 * kChunk, 4 * kChunk};
  const auto order = [&] {
    const Bytes read = kit::read_all(*make_array(geometry, members, sizes));
    std::vector<int> firsts;
    for (std::size_t at = 0; at < read.size(); at += kChunk)
      firsts.push_back(std::to_integer<int>(read[at]));
    return firsts;
  };
  EXPECT_EQ(order(), (std::vector<int>{0x10, 0x20, 0x30, 0x11, 0x21, 0x31, 0x22, 0x32, 0x33}));
  // Chunk 6 of the array is the first of the second zone: by the old layout 6 mod 2 begins it.
  geometry.layout = kZonesOld;
  EXPECT_EQ(order(), (std::vector<int>{0x10, 0x20, 0x30, 0x11, 0x21, 0x31, 0x22, 0x32, 0x33}));
}

TEST(Geometry, SaysWhatCannotBe) {
  EXPECT_EQ(why_invalid({5, 2, 0, 4, 1 << 20}), "invalid chunk size 0");
  EXPECT_EQ(why_invalid({5, 2, 700, 4, 1 << 20}), "invalid chunk size 700");
  EXPECT_EQ(why_invalid({5, 99, 4096, 4, 1 << 20}), "invalid layout 99");
  EXPECT_EQ(why_invalid({5, 8, 4096, 4, 1 << 20}), "invalid layout 8") << "of level 6 alone";
  EXPECT_EQ(why_invalid({5, 2, 4096, ~0u, 1 << 20}), "4294967295 members");
  EXPECT_EQ(why_invalid({6, 2, 4096, 2, 1 << 20}), "2 members");
  EXPECT_EQ(why_invalid({6, 2, 4096, 300, 1 << 20}), "300 members");
  EXPECT_EQ(why_invalid({7, 0, 4096, 4, 1 << 20}), "level 7 is not known");
  EXPECT_EQ(why_invalid({10, 0, 4096, 4, 1 << 20}), "invalid layout 0x0");
  EXPECT_EQ(why_invalid({10, 0x0303, 4096, 4, 1 << 20}), "invalid layout 0x303");
  EXPECT_EQ(why_invalid({1, 0, 0, 2, 0}), "0 bytes of each member");
  EXPECT_EQ(why_invalid({10, 0x0102, 4096, 4, 1 << 20}), "");
  EXPECT_THROW(make_array({5, 2, 4096, 4, 1 << 20}, {nullptr}), Error);
}

TEST(Geometry, LargerThanItsMembersHasOneUnreadableEnd) {
  const Geometry geometry{5, 2, 4096, 3, 1ull << 50};
  const SourcePtr member = make_memory_source(kit::pattern(kMember, 1));
  const SourcePtr array = make_array(geometry, {member, member, member});
  EXPECT_EQ(array->size(), 2ull << 50);
  std::size_t extents = 0;
  Range last;
  array->extents({0, array->size()}, [&](const Extent& extent) {
    last = extent.range;
    EXPECT_EQ(extent.kind == ExtentKind::unreadable, extent.range.offset >= 2 * kMember);
    return ++extents < 1000;
  });
  EXPECT_EQ(last, (Range{2 * kMember, (2ull << 50) - 2 * kMember}));
}

TEST(Array, NeedsThePlaceOfAWriteToBeThere) {
  const Geometry geometry = shape(5, "left-symmetric", 3);
  const SourcePtr array = make_array(geometry, {nullptr, nullptr, nullptr});
  const auto& writable = dynamic_cast<const WritableSource&>(*array);
  EXPECT_THROW(writable.translate(0, Bytes(16)), Error);
}

}  // namespace
}  // namespace lantern::array
