// Copies of one failing disk, joined; and a copy looked at as what it is.
#include <gtest/gtest.h>

#include <filesystem>
#include <random>

#include "kit/bytes.h"
#include "lantern/error.h"
#include "lantern/nest/session.h"
#include "lantern/physical/failing_disk.h"
#include "lantern/sources.h"
#include "source/failing_source.h"
#include "source/reading/known_losses.h"

namespace lantern {
namespace {

using kit::Bytes;

constexpr std::size_t kSize = 4u << 20;

class JoinTest : public testing::Test {
 protected:
  JoinTest() : bytes_(kSize) {
    std::mt19937 random(9);
    for (std::byte& each : bytes_) each = static_cast<std::byte>(random());
  }
  FailingCopyState copy(const std::string& name, const FaultPlan& plan,
                        std::vector<std::string> join = {}) {
    FailingCopy wanted;
    wanted.name = "disk:SK-1";
    wanted.join = std::move(join);
    return copy_failing_disk(
        std::make_shared<FailingSource>(make_memory_source(bytes_), plan, [](auto) {}),
        folder_ / name, wanted, context_);
  }
  static FaultPlan lost(std::vector<Range> ranges) {
    FaultPlan plan;
    plan.unreadable = std::move(ranges);
    return plan;
  }

  kit::Folder folder_;
  Bytes bytes_;
  Context context_;
};

TEST_F(JoinTest, TheBestOfBothComesOut) {
  copy("a.img", lost({{0, 8192}, {1 << 20, 4096}}));
  copy("b.img", lost({{4096, 8192}, {2 << 20, 4096}}));
  const FailingCopyState done =
      join_copies({folder_ / "a.img", folder_ / "b.img"}, folder_ / "c.img", true, context_);
  EXPECT_EQ(done.unreadable, (std::vector<Range>{{4096, 4096}}));
  EXPECT_EQ(done.sha256.size(), 64u);
  Bytes expected = bytes_;
  std::fill_n(expected.begin() + 4096, 4096, std::byte{0});
  EXPECT_EQ(kit::read_file(folder_ / "c.img"), expected);
}

TEST_F(JoinTest, AnUnfinishedCopyIsTakenOverAndGoneOnWithElsewhere) {
  FaultPlan plan = lost({{1 << 20, 4096}});
  plan.unplugged_after_reads = 3;
  ASSERT_TRUE(copy("a.img", plan).stopped);
  const FailingCopyState joined =
      join_copies({folder_ / "a.img"}, folder_ / "b.img", true, context_);
  EXPECT_FALSE(joined.untried.empty());
  EXPECT_GT(joined.good_bytes, 0u);
  EXPECT_TRUE(std::filesystem::exists(folder_ / "b.img.part"));
  const FailingCopyState done = copy("c.img", lost({{1 << 20, 4096}}), {folder_ / "a.img"});
  EXPECT_EQ(done.unreadable, (std::vector<Range>{{1 << 20, 4096}}));
  EXPECT_EQ(kit::read_file(folder_ / "c.img").size(), kSize);
}

TEST_F(JoinTest, BytesThatDifferAreSuspectAndAnotherDiskIsRefused) {
  copy("a.img", {});
  bytes_[5 * 512] ^= std::byte{1};
  copy("b.img", lost({{1 << 20, 512}}));
  const FailingCopyState done =
      join_copies({folder_ / "a.img", folder_ / "b.img"}, folder_ / "c.img", false, context_);
  EXPECT_EQ(done.suspect, (std::vector<Range>{{5 * 512, 512}}));
  std::reverse(bytes_.begin(), bytes_.end());
  copy("d.img", {});
  EXPECT_THROW(
      join_copies({folder_ / "a.img", folder_ / "d.img"}, folder_ / "e.img", false, context_),
      Error);
  EXPECT_THROW(join_copies({folder_ / "none.img"}, folder_ / "f.img", false, context_), Error);
}

TEST_F(JoinTest, WhatWasNotReadIsUnreadableInTheCopyUntilItIsWritten) {
  copy("a.img", lost({{1 << 20, 4096}}));
  const auto open = [&] {
    return with_known_losses(open_file_source(folder_ / "a.img", context_), folder_ / "a.img",
                             context_);
  };
  std::vector<Range> unreadable;
  kit::read_all(*open(), &unreadable);
  EXPECT_EQ(unreadable, (std::vector<Range>{{1 << 20, 4096}}));
  std::vector<ExtentKind> kinds;
  open()->extents({0, kSize}, [&](const Extent& extent) {
    kinds.push_back(extent.kind);
    return true;
  });
  EXPECT_EQ(std::count(kinds.begin(), kinds.end(), ExtentKind::unreadable), 1);
  // A repaired sector is content.
  Bytes now = kit::read_file(folder_ / "a.img");
  std::fill_n(now.begin() + (1 << 20), 512, std::byte{0x55});
  folder_.file("a.img", now);
  unreadable.clear();
  kit::read_all(*open(), &unreadable);
  EXPECT_EQ(unreadable, (std::vector<Range>{{(1 << 20) + 512, 4096 - 512}}));
}

TEST_F(JoinTest, AStatusThatIsNotValidIsToldAndTheCopyIsReadAsItIs) {
  copy("a.img", lost({{1 << 20, 4096}}));
  const auto lost_ranges = [&] {
    std::vector<Range> unreadable;
    kit::read_all(*with_known_losses(open_file_source(folder_ / "a.img", context_),
                                     folder_ / "a.img", context_),
                  &unreadable);
    return unreadable.size();
  };
  EXPECT_EQ(lost_ranges(), 1u);
  Bytes status = kit::read_file(folder_ / "a.img.reading");
  for (const std::string& wrong : {std::string(100'000, 'x'), std::string("gannets\n")}) {
    Bytes longer = status;
    kit::put_text(longer, longer.size(), wrong);
    folder_.file("a.img.reading", longer);
    EXPECT_EQ(lost_ranges(), 0u);
    EXPECT_EQ(kit::codes(context_).front(), "source.unreadable@0");
  }
  std::filesystem::remove(folder_ / "a.img.reading");
  std::filesystem::create_directory(folder_ / "a.img.reading");
  EXPECT_EQ(lost_ranges(), 0u);
}

TEST_F(JoinTest, SectorsThatComeDifferentWhenReadAgainAreSuspect) {
  FaultPlan plan;
  plan.wrong = {{{2 << 20, 64 * 512}, 0, 1}};
  const FailingCopyState done = copy("a.img", plan);
  EXPECT_EQ(done.suspect, (std::vector<Range>{{2 << 20, 64 * 512}}));
  plan.wrong = {{{2 << 20, 64 * 512}, 0}};
  EXPECT_TRUE(copy("b.img", plan).suspect.empty()) << "as a file that is there twice";
  EXPECT_EQ(kit::codes(context_).back(), "source.suspect@2097152");
}

TEST_F(JoinTest, SectorsOf520BytesAreReadWhole) {
  bytes_.resize(520 * 6000);
  FaultPlan plan = lost({{520 * 3000, 520}});
  plan.sector_size = plan.physical_sector_size = 520;
  const FailingCopyState done = copy("a.img", plan);
  EXPECT_EQ(done.unreadable, (std::vector<Range>{{520 * 3000, 520}}));
  EXPECT_EQ(done.good_bytes, 520u * 5999);
}

}  // namespace
}  // namespace lantern
