#include "source/laid_writes.h"

#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "lantern/error.h"
#include "lantern/sources.h"
#include "source/failing_source.h"

namespace lantern {
namespace {

using kit::Bytes;

class Laid : public testing::Test {
 protected:
  static constexpr std::size_t kSize = 10'000;
  Laid() : path_(folder_.file("disk.img", kit::pattern(kSize, 1))) {}
  SourcePtr inner() const { return make_memory_source(kit::pattern(kSize, 1)); }

  kit::Folder folder_;
  std::string path_;
  std::shared_ptr<Scratch> scratch_ = Scratch::in_memory(0);
  LaidWrites& writes_ = LaidWrites::of(*scratch_);
};

TEST_F(Laid, OverlappingWritesReadAsTheLastOfEach) {
  const SourcePtr over = writes_.over(path_, inner());
  Bytes expected = kit::pattern(kSize, 1);
  std::uint32_t seed = 2;
  for (const auto& [at, length] : std::vector<std::pair<std::size_t, std::size_t>>{
           {100, 500}, {300, 10}, {50, 60}, {580, 400}, {0, 2000}, {1500, 1}, {1999, 2}}) {
    const Bytes bytes = kit::pattern(length, seed++);
    writes_.write(path_, at, bytes, false);
    kit::put_bytes(expected, at, bytes);
  }
  EXPECT_EQ(kit::read_all(*over), expected);
  EXPECT_EQ(kit::read_file(path_), kit::pattern(kSize, 1)) << "the file stays";
  EXPECT_EQ(writes_.log().writes().size(), 7u);
}

// Both were taken for the first file in the log: a write to the second went to the first.
TEST_F(Laid, TwoFilesThatAreOpenBeforeEitherIsWrittenKeepTheirOwn) {
  const std::string other = folder_.file("other.img", kit::pattern(kSize, 2));
  const SourcePtr first = writes_.over(path_, inner());
  const SourcePtr second = writes_.over(other, make_memory_source(kit::pattern(kSize, 2)));
  writes_.write(path_, 10, kit::pattern(5, 7), false);
  writes_.write(other, 20, kit::pattern(5, 8), false);
  ASSERT_EQ(writes_.log().files().size(), 2u);
  EXPECT_EQ(writes_.log().files()[writes_.log().writes()[0].file].path, path_);
  EXPECT_EQ(writes_.log().files()[writes_.log().writes()[1].file].path, other);
}

TEST_F(Laid, AWritePastTheEndMakesItLonger) {
  const SourcePtr over = writes_.over(path_, inner());
  writes_.write(path_, kSize + 100, kit::pattern(50, 9), false);
  EXPECT_EQ(over->size(), kSize + 150);
  Bytes gap(100);
  over->read(kSize, gap);
  EXPECT_EQ(gap, Bytes(100));
}

TEST_F(Laid, ExtentsTellWhatIsLaidOver) {
  const SourcePtr over = writes_.over(path_, inner());
  writes_.write(path_, 1000, kit::pattern(500, 2), false);
  std::string told;
  over->extents({0, kSize}, [&](const Extent& extent) {
    told += (extent.kind == ExtentKind::overlaid ? "laid " : "below ") +
            std::to_string(extent.range.offset) + " " + std::to_string(extent.range.length) + ";";
    return true;
  });
  EXPECT_EQ(told, "below 0 1000;laid 1000 500;below 1500 8500;");
}

TEST_F(Laid, OneScratchLiesOverAnother) {
  const SourcePtr below = writes_.over(path_, inner());
  writes_.write(path_, 0, kit::bytes_of("below"), false);
  const auto upper = Scratch::in_memory(0, scratch_);
  const SourcePtr above = LaidWrites::of(*upper).over(path_, inner());
  LaidWrites::of(*upper).write(path_, 2, kit::bytes_of("UP"), false);
  Bytes text(5);
  above->read(0, text);
  EXPECT_EQ(kit::text_of(text), "beUPw");
  below->read(0, text);
  EXPECT_EQ(kit::text_of(text), "below");
}

TEST_F(Laid, WhatCouldNotBeBroughtBackIsNotWritten) {
  FaultPlan plan;
  plan.unreadable.push_back({512, 512});
  writes_.over(path_, std::make_shared<FailingSource>(inner(), plan, [](auto) {}));
  EXPECT_THROW(writes_.write(path_, 600, kit::bytes_of("x"), false), Error);
  EXPECT_NO_THROW(writes_.write(path_, 0, kit::bytes_of("x"), false));
}

TEST_F(Laid, ASecondAskerOfANameIsTold) {
  EXPECT_TRUE(writes_.first_time("disk"));
  EXPECT_FALSE(writes_.first_time("disk"));
  EXPECT_TRUE(writes_.first_time("other"));
}

}  // namespace
}  // namespace lantern
