#include <gtest/gtest.h>

#include <algorithm>

#include "kit/disk_builder.h"
#include "kit/fat_builder.h"
#include "lantern/error.h"
#include "lantern/repair.h"
#include "lantern/structure.h"

namespace lantern::repair {
namespace {

constexpr std::size_t kStart = 2048 * 512;

// Two disks of one kind with ids of their own; `code`: with code in sector 0 and behind it.
kit::Bytes disk_with(std::uint32_t id, bool code) {
  kit::FatBuilder fat(kit::FatBuilder::Width::fat16);
  fat.file(0, "log.txt", kit::bytes_of("two eggs\n"), {2});
  kit::Bytes disk(kStart + fat.bytes().size());
  if (code) kit::put_bytes(disk, 0, kit::pattern(440, 5));
  if (code) kit::put_bytes(disk, 512, kit::pattern(700, 6));
  kit::put(disk, 440, id, 4);
  kit::put_mbr(disk, 0, {{0x0E, 2048, static_cast<std::uint32_t>(fat.bytes().size() / 512), code}});
  kit::put_bytes(disk, kStart, fat.bytes());
  kit::put(disk, kStart + 39, id + 1, 4);
  if (code) kit::put_bytes(disk, kStart + 62, kit::pattern(448, 7));
  return disk;
}

class PlanCopy : public ::testing::Test {
 protected:
  RepairPlan plan(const std::vector<std::string>& what) const {
    return plan_copy(broken_, healthy_, what, Session({}, context_));
  }
  // The broken disk with it applied, and then as undone.
  kit::Bytes applied(const std::vector<std::string>& what) const {
    ApplyOptions how;
    how.journal = folder_ / "undo";
    const RepairPlan planned = plan(what);
    apply_repair(planned, steps_of(planned, certain_fixes(planned)), Session({}, context_), how);
    kit::Bytes after = kit::read_file(broken_.first);
    undo_repair(how.journal, how, context_);
    EXPECT_EQ(kit::read_file(broken_.first), before_);
    std::remove(how.journal.c_str());
    return after;
  }

  kit::Folder folder_;
  Context context_;
  kit::Bytes before_ = disk_with(0x1111, false);
  kit::Bytes good_ = disk_with(0x2222, true);
  Address broken_{folder_.file("broken.img", before_), {}};
  Address healthy_{folder_.file("healthy.img", good_), {}};
};

TEST_F(PlanCopy, AFieldIsTakenAlone) {
  kit::Bytes wanted = before_;
  std::copy_n(good_.begin(), 440, wanted.begin());
  EXPECT_EQ(applied({"mbr.boot_code"}), wanted);
}

TEST_F(PlanCopy, OfAStructureWhatADiskHasOfItsOwnStays) {
  kit::Bytes wanted = before_;
  std::copy_n(good_.begin(), 440, wanted.begin());
  wanted[446] = std::byte{0x80};
  EXPECT_EQ(applied({"mbr"}), wanted) << "the disk id stays";
  const RepairPlan planned = plan({"mbr"});
  ASSERT_EQ(planned.steps.size(), 1u);
  EXPECT_NE(planned.steps[0].evidence.find("disk_id"), std::string::npos);
}

TEST_F(PlanCopy, AnIdIsTakenWhenItIsNamed) {
  kit::Bytes wanted = before_;
  std::copy_n(good_.begin() + 440, 4, wanted.begin() + 440);
  EXPECT_EQ(applied({"mbr.disk_id"}), wanted);
}

TEST_F(PlanCopy, SeveralAndTheSectorsOfALoader) {
  kit::Bytes wanted = before_;
  std::copy_n(good_.begin(), 440, wanted.begin());
  std::copy_n(good_.begin() + 512, 700, wanted.begin() + 512);
  std::copy_n(good_.begin() + kStart + 62, 448, wanted.begin() + kStart + 62);
  EXPECT_EQ(applied({"mbr.boot_code", "loader", "boot:1"}), wanted);
}

TEST_F(PlanCopy, WhatIsTheSameIsNoStep) {
  const RepairPlan planned = plan({"mbr.signature"});
  EXPECT_TRUE(planned.steps.empty());
  ASSERT_EQ(planned.notes.size(), 1u);
}

TEST_F(PlanCopy, WhatIsNotThereIsOneLine) {
  for (const char* const what : {"mbr.nonsense", "nonsense", "boot:7", "gpt", "mft:0", ""})
    EXPECT_THROW(plan({what}), Error) << what;
}

TEST_F(PlanCopy, CompareSaysWhatCanBeTaken) {
  const Session session({}, context_);
  const Comparison result =
      compare_structures(session.open_disk(broken_), session.open_disk(healthy_), context_);
  std::vector<std::string> can;
  for (const Difference& row : result.rows)
    if (row.can_be_taken) can.push_back(row.structure + "." + row.field);
  std::sort(can.begin(), can.end());
  EXPECT_EQ(can, (std::vector<std::string>{"boot:1.boot_code", "loader.code", "mbr.boot_code",
                                           "mbr.entry1.active"}));
  for (const Difference& row : result.identity) EXPECT_FALSE(row.can_be_taken) << row.field;
}

}  // namespace
}  // namespace lantern::repair
