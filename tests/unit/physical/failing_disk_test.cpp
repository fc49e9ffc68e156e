#include "lantern/physical/failing_disk.h"

#include <gtest/gtest.h>

#include <atomic>
#include <filesystem>
#include <fstream>

#include "kit/bytes.h"
#include "lantern/error.h"
#include "lantern/imaging.h"
#include "lantern/sources.h"
#include "source/failing_source.h"

namespace lantern {
namespace {

using kit::Bytes;

constexpr std::size_t kSize = 6 * 1024 * 1024 + 1536;

Bytes plain() {
  Bytes bytes = kit::pattern(kSize, 5);
  std::fill(bytes.begin() + 2'000'000, bytes.begin() + 3'000'000, std::byte{0});
  return bytes;
}

FaultPlan faults() {
  FaultPlan plan;
  plan.unreadable = {{512 * 300, 512}, {4'000'256 / 512 * 512, 512 * 40}};
  plan.flaky = {{{512 * 9000, 1024}, 2}};
  return plan;
}

class FailingDiskTest : public testing::Test {
 protected:
  SourcePtr disk(const FaultPlan& plan, const Bytes& bytes = plain()) const {
    return std::make_shared<FailingSource>(make_memory_source(bytes), plan, [](auto) {});
  }
  FailingCopyState copy(const SourcePtr& from) {
    FailingCopy wanted;
    wanted.name = "disk:SK-1";
    return copy_failing_disk(from, out_, wanted, context_);
  }
  // The disk with what can never be read as zeros.
  static Bytes expected() {
    Bytes bytes = plain();
    for (const Range& lost : faults().unreadable)
      std::fill_n(bytes.begin() + static_cast<std::ptrdiff_t>(lost.offset), lost.length,
                  std::byte{0});
    return bytes;
  }
  std::string status() const {
    const Bytes bytes = kit::read_file(out_ + ".reading");
    return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
  }

  kit::Folder folder_;
  std::string out_ = folder_ / "skua.img";
  Context context_;
};

TEST_F(FailingDiskTest, AllThatCanBeReadIsInTheCopyAndTheRestIsNamed) {
  const FailingCopyState done = copy(disk(faults()));
  EXPECT_EQ(kit::read_file(out_), expected());
  EXPECT_EQ(done.unreadable, faults().unreadable);
  EXPECT_TRUE(done.untried.empty());
  EXPECT_FALSE(done.stopped);
  EXPECT_EQ(done.good_bytes, kSize - 41 * 512);
  EXPECT_EQ(done.sha256.size(), 64u);
  EXPECT_NE(status().find(
                "{\"offset_bytes\":153600,\"length_bytes\":512,\"state\":\"failed\",\"tries\":3}"),
            std::string::npos);
  EXPECT_FALSE(std::filesystem::exists(out_ + ".part"));
}

TEST_F(FailingDiskTest, ADiskThatGoesAwayAgainAndAgainIsReadInTheEnd) {
  FaultPlan plan = faults();
  plan.flaky.clear();  // each connection would begin to count anew
  plan.unplugged_after_reads = 12;
  FailingCopyState state;
  int runs = 0;
  std::uint64_t good = 0;
  do {
    state = copy(disk(plan));
    EXPECT_GE(state.good_bytes, good) << "what was read is never lost";
    good = state.good_bytes;
    EXPECT_EQ(state.resumed, runs > 0);
  } while (state.stopped && ++runs < 100);
  EXPECT_GT(runs, 3);
  EXPECT_EQ(kit::read_file(out_), expected());
  EXPECT_EQ(state.unreadable, faults().unreadable);
}

TEST_F(FailingDiskTest, AStopIsTakenUp) {
  const auto stop = std::make_shared<std::atomic<bool>>(true);
  context_.cancel = stop;
  EXPECT_TRUE(copy(disk(faults())).stopped);
  stop->store(false);
  EXPECT_FALSE(copy(disk(faults())).resumed) << "nothing was read before";
  EXPECT_EQ(kit::read_file(out_), expected());
}

TEST_F(FailingDiskTest, AnotherDisksStatusIsRefused) {
  FaultPlan plan = faults();
  plan.unplugged_after_reads = 5;
  EXPECT_TRUE(copy(disk(plan)).stopped);
  const Bytes part = kit::read_file(out_ + ".part");
  EXPECT_THROW(copy(disk({}, kit::pattern(kSize, 6))), Error) << "of the same size";
  EXPECT_THROW(copy(disk({}, kit::pattern(kSize + 512, 5))), Error) << "of another size";
  EXPECT_EQ(kit::read_file(out_ + ".part"), part);
  std::ofstream(out_ + ".reading")
      << "{\"reading_version\":1,\"disk\":\"x\",\"size_bytes\":99}\n"
      << "{\"offset_bytes\":5,\"length_bytes\":1,\"state\":\"good\",\"tries\":0}\n";
  EXPECT_THROW(copy(disk(faults())), Error) << "a gap";
  std::ofstream(out_ + ".reading") << "lamp\n";
  EXPECT_THROW(copy(disk(faults())), Error);
}

TEST_F(FailingDiskTest, AnUnfinishedCopyOfTheOtherKindIsLeftAlone) {
  FaultPlan plan = faults();
  plan.unplugged_after_reads = 5;
  EXPECT_TRUE(copy(disk(plan)).stopped);
  const Bytes part = kit::read_file(out_ + ".part");
  EXPECT_THROW(write_image(disk({}), out_, {}, context_), Error);
  EXPECT_EQ(kit::read_file(out_ + ".part"), part);
  std::filesystem::remove(out_ + ".reading");
  EXPECT_THROW(copy(disk(faults())), Error);
  EXPECT_EQ(kit::read_file(out_ + ".part"), part);
}

TEST_F(FailingDiskTest, NothingThatIsThereIsReplaced) {
  std::ofstream(out_) << "kept";
  EXPECT_THROW(copy(disk(faults())), Error);
  EXPECT_EQ(kit::read_file(out_), kit::bytes_of("kept"));
}

TEST_F(FailingDiskTest, OneSectorFailsAsLargeAsTheDisksOwn) {
  FaultPlan plan;
  plan.unreadable = {{4096 * 100 + 512, 512}};
  plan.sector_size = 512;
  plan.physical_sector_size = 4096;
  const FailingCopyState done = copy(disk(plan));
  EXPECT_EQ(done.unreadable, (std::vector<Range>{{4096 * 100 + 512, 4096 - 512}}));
}

}  // namespace
}  // namespace lantern
