// What is wanted of a failing disk is read before all else: by the order of the reads.
#include <gtest/gtest.h>

#include <algorithm>

#include "kit/disk_builder.h"
#include "kit/fat_builder.h"
#include "lantern/physical/failing_disk.h"
#include "lantern/sources.h"
#include "source/failing_source.h"

namespace lantern {
namespace {

using kit::Bytes;

constexpr std::uint64_t kVolume = 2048 * 512;

// Keeps the places that are asked for.
class Recording final : public ByteSource {
 public:
  explicit Recording(SourcePtr inner) : inner_(std::move(inner)) {}
  std::uint64_t size() const override { return inner_->size(); }
  std::vector<Range>& asked() const { return asked_; }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    asked_.push_back({offset, out.size()});
    const ReadResult got = inner_->read(offset, out);
    unreadable.insert(unreadable.end(), got.unreadable.begin(), got.unreadable.end());
  }

 private:
  SourcePtr inner_;
  mutable std::vector<Range> asked_;
};

class WantedFirst : public testing::Test {
 protected:
  WantedFirst() : fat_(kit::FatBuilder::Width::fat16) {
    fat_.folder(0, "counts", {10});
    fat_.file(10, "gannets.csv", kit::pattern(1024, 1), {4000, 4001});
    fat_.file(0, "tide.log", kit::pattern(1024, 2), {3000, 3001});
    disk_.resize(kVolume + fat_.bytes().size() + (2u << 20));
    kit::put_mbr(disk_, 0, {{0x0E, 2048, static_cast<std::uint32_t>(fat_.bytes().size() / 512)}});
    kit::put_bytes(disk_, kVolume, fat_.bytes());
  }
  FailingCopyState copy(const FaultPlan& plan, FailingCopy wanted) {
    wanted.name = "disk:SK-1";
    const auto failing =
        std::make_shared<FailingSource>(make_memory_source(disk_), plan, [](auto) {});
    reads_ = std::make_shared<Recording>(failing);
    return copy_failing_disk(reads_, folder_ / "a.img", wanted, context_);
  }
  // Number of the first read that asks for the byte.
  std::size_t when(std::uint64_t byte) const {
    const auto& asked = reads_->asked();
    const auto first = std::find_if(asked.begin(), asked.end(), [&](const Range& range) {
      return range.offset <= byte && byte < range.end();
    });
    return static_cast<std::size_t>(first - asked.begin());
  }
  // Of seven free clusters, how many are read later; one may lie where a look begins.
  int later_than(std::size_t read) const {
    int later = 0;
    for (const std::uint32_t free : {800u, 1300u, 1900u, 2500u, 3300u, 3600u, 4600u})
      later += when(at(free)) > read ? 1 : 0;
    return later;
  }
  std::uint64_t at(std::uint32_t cluster) const { return kVolume + fat_.cluster_offset(cluster); }

  kit::FatBuilder fat_;
  Bytes disk_;
  std::shared_ptr<Recording> reads_;
  kit::Folder folder_;
  Context context_;
};

TEST_F(WantedFirst, TheFilesThatMatchComeBeforeTheRest) {
  FailingCopy wanted;
  wanted.files_first = {"*.csv"};
  const FailingCopyState done = copy({}, wanted);
  EXPECT_LT(when(at(10)), when(at(4000))) << "their folder before them";
  EXPECT_LT(when(at(4000)), when(at(3000)));
  EXPECT_GE(later_than(when(at(4001))), 5) << "before what no file has";
  EXPECT_EQ(kit::read_file(folder_ / "a.img"), disk_);
  EXPECT_TRUE(done.unreadable.empty());
}

TEST_F(WantedFirst, OfStructuresAloneNoContentIsRead) {
  FailingCopy wanted;
  wanted.metadata_first = true;
  FaultPlan plan;
  copy(plan, wanted);
  EXPECT_LT(when(at(10)), when(at(4000)));
  EXPECT_GE(later_than(when(at(10))), 5) << "the folder before what no file has";
}

TEST_F(WantedFirst, AFolderThatBecomesReadableGivesItsFiles) {
  FailingCopy wanted;
  wanted.files_first = {"*.csv"};
  FaultPlan plan;
  plan.flaky = {{{at(10), 512}, 2}};
  const FailingCopyState done = copy(plan, wanted);
  EXPECT_GE(later_than(when(at(4000))), 5) << "though its folder failed at first";
  EXPECT_TRUE(done.unreadable.empty());
}

TEST_F(WantedFirst, WhatIsWantedIsThereWhenTheDiskDies) {
  FailingCopy wanted;
  wanted.files_first = {"*.csv"};
  copy({}, wanted);
  const std::size_t needed = when(at(4001)) + 1;
  std::filesystem::remove(folder_ / "a.img");
  std::filesystem::remove(folder_ / "a.img.reading");
  FaultPlan plan;
  plan.unplugged_after_reads = needed;
  const FailingCopyState done = copy(plan, wanted);
  EXPECT_TRUE(done.stopped);
  EXPECT_FALSE(done.untried.empty());
  const Bytes part = kit::read_file(folder_ / "a.img.part");
  EXPECT_TRUE(std::equal(part.begin() + static_cast<std::ptrdiff_t>(at(4000)),
                         part.begin() + static_cast<std::ptrdiff_t>(at(4000)) + 1024,
                         disk_.begin() + static_cast<std::ptrdiff_t>(at(4000))));
}

}  // namespace
}  // namespace lantern
