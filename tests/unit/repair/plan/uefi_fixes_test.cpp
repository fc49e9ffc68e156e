// What keeps UEFI firmware from starting a disk, put right: entries of the GPT, a deleted loader.
#include <gtest/gtest.h>

#include <algorithm>

#include "kit/uefi_disk.h"
#include "lantern/nest/start_chain.h"
#include "lantern/repair.h"

namespace lantern::repair {
namespace {

using kit::UefiDisk;

struct Repaired {
  std::vector<std::string> codes;
  StartVerdict verdict{};
  std::string type;
};

// With every fix of the plan applied.
Repaired repaired(const kit::Bytes& disk) {
  const kit::Folder folder;
  const Context context;
  const Session session({}, context);
  const Address address{folder.file("disk.img", disk), {}};
  const RepairPlan plan = plan_repair(address, {}, session);
  Repaired result;
  for (const RepairStep& step : plan.steps) {
    result.codes.push_back(step.code);
    EXPECT_EQ(step.certainty, Certainty::likely) << step.code;
  }
  ApplyOptions how;
  how.journal = folder / "undo";
  if (!plan.fixes.empty())
    apply_repair(plan, steps_of(plan, all_together(plan)), Session({}, context), how);
  const Target target = Session({}, context).open_disk(address);
  const auto chains = read_start_chains(target.disk(), {}, context);
  result.verdict = chains.empty() ? StartVerdict::does_not_start : chains.front().verdict();
  if (!target.disk().table.rows.empty()) result.type = target.disk().table.rows.front().type;
  return result;
}

TEST(UefiFixes, AHealthyDiskGetsNone) {
  EXPECT_TRUE(repaired(UefiDisk().disk).codes.empty());
}

TEST(UefiFixes, TheWrongTypeOfTheEfiSystemPartition) {
  const Repaired after =
      repaired(UefiDisk(UefiDisk::Loader::there, UefiDisk::Entry::basic_data).disk);
  EXPECT_EQ(after.verdict, StartVerdict::starts);
  EXPECT_EQ(after.type, "EFI system");
}

TEST(UefiFixes, ItsEntryThatIsGone) {
  const Repaired after = repaired(UefiDisk(UefiDisk::Loader::there, UefiDisk::Entry::none).disk);
  EXPECT_EQ(after.verdict, StartVerdict::starts);
  EXPECT_EQ(after.type, "EFI system");
}

TEST(UefiFixes, ADeletedLoaderThatIsIntactIsUndeleted) {
  const Repaired after = repaired(UefiDisk(UefiDisk::Loader::deleted).disk);
  EXPECT_EQ(after.codes, std::vector<std::string>{"fat.efi-loader"});
  EXPECT_EQ(after.verdict, StartVerdict::starts);
}

TEST(UefiFixes, ADeletedLoaderIsLeftWhereItIsNoProgram) {
  UefiDisk uefi(UefiDisk::Loader::deleted);
  const kit::Bytes header = kit::bytes_of("MZ");
  const auto mark = std::search(uefi.disk.begin(), uefi.disk.end(), header.begin(), header.end());
  ASSERT_NE(mark, uefi.disk.end());
  *mark = std::byte{0};
  EXPECT_TRUE(repaired(uefi.disk).codes.empty());
}

}  // namespace
}  // namespace lantern::repair
