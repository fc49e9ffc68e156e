// What no plan writes to.
#include <gtest/gtest.h>

#include "kit/disk_builder.h"
#include "kit/ext_builder.h"
#include "kit/fat_builder.h"
#include "lantern/error.h"
#include "lantern/repair.h"
#include "repair/plan/hands_off.h"

namespace lantern::repair {
namespace {

constexpr std::size_t kMiB = 1u << 20;

struct Bench {
  kit::Folder folder;
  Context context;
  RepairPlan plan(const kit::Bytes& disk) {
    return plan_repair({folder.file("disk.img", disk), {}}, {}, Session({}, context));
  }
};

kit::Bytes fat_disk() {
  kit::FatBuilder fat(kit::FatBuilder::Width::fat16);
  fat.file(0, "log.txt", kit::bytes_of("two eggs\n"), {2});
  return fat.bytes();
}

TEST(HandsOff, ASuperblockInsideAPhysicalVolumeIsItsContent) {
  // A label of LVM with a right checksum is laid by named_test.cpp; its mark alone is enough here.
  kit::Bytes disk(8 * kMiB);
  kit::put_text(disk, 512, "LABELONE");
  kit::put(disk, 512 + 8, 1, 8);
  kit::put(disk, 512 + 20, 32, 4);
  kit::put_text(disk, 512 + 24, "LVM2 001");
  kit::put_bytes(disk, 2 * kMiB, fat_disk());
  Bench bench;
  const RepairPlan plan = bench.plan(disk);
  EXPECT_TRUE(plan.steps.empty());
  ASSERT_EQ(plan.notes.size(), 1u);
  EXPECT_NE(plan.notes[0].text().find("LVM physical volume"), std::string::npos);
}

TEST(HandsOff, AVolumeInsideUnknownDataMakesNoTable) {
  kit::Bytes disk = kit::pattern(8 * kMiB, 3);
  kit::put_bytes(disk, 0, kit::Bytes(4096));
  kit::put_bytes(disk, 2 * kMiB + 4096, fat_disk());
  Bench bench;
  const RepairPlan plan = bench.plan(disk);
  EXPECT_TRUE(plan.steps.empty()) << plan.steps[0].what;
  EXPECT_NE(plan.notes.at(0).text().find("where no partition does"), std::string::npos);
}

TEST(HandsOff, TheEndOfAnIncompleteCopyIsTold) {
  const kit::Bytes fat = fat_disk();
  kit::Bytes disk(kMiB + fat.size());
  kit::put_mbr(disk, 0, {{0x0E, 2048, static_cast<std::uint32_t>(fat.size() / 512)}});
  kit::put_bytes(disk, kMiB, fat);
  disk.resize(disk.size() - 64 * 512);
  Bench bench;
  const RepairPlan plan = bench.plan(disk);
  EXPECT_TRUE(plan.steps.empty());
  EXPECT_NE(plan.notes.at(0).text().find("32.0 KiB (32768 bytes) are missing"), std::string::npos)
      << plan.notes.at(0).text();
}

TEST(HandsOff, PartialTargetsAreErrors) {
  const Target none;
  EXPECT_THROW(none.disk(), Error);
  EXPECT_THROW(none.volume_layer(), Error);
  EXPECT_THROW(none.file_system(), Error);
  EXPECT_THROW(walk_target(none, {}, [](const Entry&) { return WalkStep::go_on; }), Error);
  Target bare;
  bare.disks.push_back(std::make_shared<DiskLayer>());
  EXPECT_THROW(bare.volume_layer(), Error);
  EXPECT_THROW(walk_target(bare, {}, [](const Entry&) { return WalkStep::go_on; }), Error);
  EXPECT_TRUE(bottom_sources(none).empty());
}

}  // namespace
}  // namespace lantern::repair
