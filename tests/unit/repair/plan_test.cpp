// Fields set by hand with their sums, volumes a table does not name, and what is not offered.
#include <gtest/gtest.h>

#include "kit/disk_builder.h"
#include "kit/exfat_builder.h"
#include "kit/ext_builder.h"
#include "kit/fat_builder.h"
#include "kit/thinned.h"
#include "lantern/error.h"
#include "lantern/repair.h"
#include "lantern/structure.h"
#include "lantern/sweep.h"
#include "repair/diagnose/diagnosis.h"

namespace lantern::repair {
namespace {

kit::Bytes fat16() {
  kit::FatBuilder fat(kit::FatBuilder::Width::fat16);
  fat.file(0, "log.txt", kit::bytes_of("two eggs\n"), {2});
  fat.folder(0, "Counts", {3});
  return fat.bytes();
}

std::uint32_t sectors_of(const kit::Bytes& bytes) {
  return static_cast<std::uint32_t>(bytes.size() / 512);
}

struct Lab {
  kit::Folder folder;
  Context context;
  std::string path;

  explicit Lab(const kit::Bytes& disk) : path(folder.file("disk.img", disk)) {}
  Address address() const { return {path, {}}; }
  RepairPlan plan() const { return plan_repair(address(), {}, Session({}, context)); }
  std::string value(const std::string& structure, const std::string& field) const {
    const Target target = Session({}, context).open_disk(address());
    return read_structure(target, structure, context).find(field)->value;
  }
  void set(const std::string& field, const std::string& value) {
    ApplyOptions how;
    how.journal = folder / "undo";
    apply_repair(plan_field(address(), field, value, Session({}, context)), {1},
                 Session({}, context), how);
    std::remove(how.journal.c_str());
  }
};

kit::Bytes mbr_disk() {
  const kit::Bytes fat = fat16();
  kit::Bytes disk(2048 * 512 + fat.size() + 512);
  kit::put_mbr(disk, 0, {{0x0E, 2048, sectors_of(fat)}});
  kit::put_bytes(disk, 2048 * 512, fat);
  return disk;
}

TEST(FieldByHand, OfTheMbr) {
  Lab lab(mbr_disk());
  lab.set("mbr.entry1.active", "yes");
  EXPECT_EQ(lab.value("mbr", "entry1.active"), "yes");
  lab.set("mbr.entry1.type", "0x06");
  EXPECT_EQ(lab.value("mbr", "entry1.type"), "0x06, FAT16");
  lab.set("boot:1.hidden_sectors", "2048");
  EXPECT_EQ(lab.value("boot:1", "hidden_sectors"), "2048");
}

TEST(FieldByHand, OfAGptMakesEverySumRight) {
  const kit::Bytes fat = fat16();
  kit::Bytes disk(40 * 512 + fat.size() + 40 * 512);
  kit::put_gpt(disk, 512, {{40, 40 + sectors_of(fat) - 1, "Keeper"}});
  kit::put_bytes(disk, 40 * 512, fat);
  Lab lab(disk);
  lab.set("gpt:entries.entry1.attributes", "4");
  lab.set("gpt:entries.entry1.name", "Lamp");
  lab.set("gpt.first_usable", "36");
  const Target target = Session({}, lab.context).open_disk(lab.address());
  EXPECT_TRUE(target.disks.back()->table.rows.at(0).active);
  EXPECT_EQ(target.disks.back()->table.rows.at(0).name, "Lamp");
  for (const char* name : {"gpt", "gpt:copy"})
    for (const Field& field : read_structure(target, name, lab.context).fields)
      EXPECT_EQ(field.expected, "") << name << " " << field.name;
}

TEST(FieldByHand, OfExfatAndExtMakesTheSumRight) {
  kit::ExtBuilder ext;
  ext.folder(2, 2, kit::ExtBuilder::kRootBlock, {});
  Lab of_ext(ext.bytes());
  of_ext.set("superblock:1.mounts", "7");
  EXPECT_EQ(of_ext.value("superblock:1", "mounts"), "7");
}

TEST(FieldByHand, WhatIsNoFieldOrNoValueIsOneLine) {
  const Lab lab(mbr_disk());
  for (const auto& [field, value] :
       {std::pair("mbr", "1"), std::pair("mbr.nothing", "1"),
        std::pair("mbr.entry1.active", "perhaps"), std::pair("mbr.entry1.start", "99999999999"),
        std::pair("rubbish.a", "1"), std::pair("mbr.boot_code", "1")})
    EXPECT_THROW(plan_field(lab.address(), field, value, Session({}, lab.context)), Error) << field;
  EXPECT_THROW(plan_bytes(lab.address(), ~0ull, kit::bytes_of("x"), Session({}, lab.context)),
               Error);
  EXPECT_THROW(plan_bytes(lab.address(), 0, {}, Session({}, lab.context)), Error);
}

TEST(VolumeSearch, FindsWhatNoTableNamesAndWhatLiesInside) {
  const kit::Bytes fat = fat16();
  kit::ExtBuilder ext;
  ext.file(13, 50, kit::bytes_of("log"));
  ext.folder(2, 2, kit::ExtBuilder::kRootBlock, {{"log.txt", 13}});
  const kit::Bytes ext_bytes = ext.bytes();
  // Nowhere a maker would put it: only a read of every sector finds the second.
  const std::size_t odd = (3u << 20) + fat.size() + 7 * 512;
  kit::Bytes disk(odd + ext_bytes.size() + (16u << 20), std::byte{0x33});
  kit::put_bytes(disk, 0, kit::Bytes(512));
  kit::put_bytes(disk, 1u << 20, fat);
  kit::put_bytes(disk, odd, ext_bytes);
  const SourcePtr source = make_memory_source(disk);
  const Context context;
  VolumeSearchOptions usual;
  usual.usual_places_only = true;
  ASSERT_EQ(search_volumes(source, {}, usual, context).volumes.size(), 1u);
  const VolumeSearch found = search_volumes(source, {}, {}, context);
  EXPECT_TRUE(found.every_sector);
  ASSERT_EQ(found.volumes.size(), 2u);
  EXPECT_EQ(found.volumes[0].range, (Range{1u << 20, fat.size()}));
  EXPECT_EQ(found.volumes[0].file_system, "fat16");
  EXPECT_EQ(found.volumes[1].range.offset, odd);
  EXPECT_EQ(found.volumes[1].file_system, "ext4");
}

TEST(VolumeSearch, StopsAndGoesOnWhereItStopped) {
  kit::Bytes disk(64u << 20, std::byte{0x33});
  const auto stop = std::make_shared<std::atomic<bool>>(true);
  Context context;
  context.cancel = stop;
  VolumeSearchOptions all;
  all.every_sector = true;
  EXPECT_THROW(context.check_cancelled(), Error);
  const VolumeSearch cut = search_volumes(make_memory_source(disk), {}, all, context);
  EXPECT_LT(cut.stopped_at, disk.size());
  stop->store(false);
  all.from = cut.stopped_at;
  const VolumeSearch rest = search_volumes(make_memory_source(disk), {}, all, context);
  EXPECT_EQ(rest.stopped_at, disk.size());
  EXPECT_EQ(rest.read_bytes, disk.size() - cut.stopped_at);
}

TEST(RepairPlan, HealthyDisksGetNoStep) {
  EXPECT_TRUE(Lab(mbr_disk()).plan().steps.empty());
  EXPECT_TRUE(Lab(fat16()).plan().steps.empty());
  EXPECT_TRUE(Lab(kit::Bytes(1u << 20)).plan().steps.empty());
  EXPECT_TRUE(Lab(kit::pattern(1u << 20, 3)).plan().steps.empty());
}

TEST(RepairPlan, AnEntryLostIsMadeFromTheVolume) {
  kit::Bytes disk = mbr_disk();
  const kit::Bytes whole = disk;
  kit::put_bytes(disk, 446, kit::Bytes(16));
  Lab lab(disk);
  const RepairPlan plan = lab.plan();
  ASSERT_EQ(plan.steps.size(), 1u);
  EXPECT_EQ(plan.steps[0].code, "mbr.table");
  EXPECT_EQ(plan.steps[0].certainty, Certainty::certain);
  EXPECT_EQ(plan.after.files, 1u);
  ApplyOptions how;
  how.journal = lab.folder / "undo";
  apply_repair(plan, {1}, Session({}, lab.context), how);
  EXPECT_EQ(lab.value("mbr", "entry1.start"), "2048");
  EXPECT_TRUE(lab.plan().steps.empty());
}

TEST(RepairPlan, EveryBitOfATableFlippedIsSurvived) {
  const kit::Bytes whole = mbr_disk();
  for (std::size_t bit = 446 * 8; bit < 512 * 8; bit += kit::thinned(5)) {
    kit::Bytes disk = whole;
    disk[bit / 8] ^= std::byte{1} << (bit % 8);
    const Lab lab(disk);
    const RepairPlan plan = lab.plan();
    EXPECT_LT(plan.steps.size(), 8u) << bit;
    EXPECT_EQ(kit::read_file(lab.path), disk) << bit;
  }
}

// A plan applied in whole.
kit::Bytes mended(const Lab& lab, const RepairPlan& plan) {
  ApplyOptions how;
  how.journal = lab.folder / "undo";
  apply_repair(plan, steps_of(plan, all_together(plan)), Session({}, lab.context), how);
  return kit::read_file(lab.path);
}

TEST(RepairPlan, OneWrongFigureOfAFatBootSectorIsPutRightAlone) {
  kit::Bytes whole = mbr_disk();
  // What a loader and a maker left there stays.
  const std::size_t boot = 2048 * 512;
  kit::put_bytes(whole, boot + 100, kit::pattern(300, 4));
  kit::put_text(whole, boot + 3, "SKERROW ");
  ASSERT_TRUE(Lab(whole).plan().steps.empty());
  const std::pair<std::size_t, int> kWrong[] = {
      {0, 0x11},  {11, 0x01}, {12, 0x07}, {13, 0x02}, {13, 0x55}, {14, 0x09}, {16, 0x01},
      {16, 0x40}, {17, 0x11}, {18, 0x01}, {21, 0x33}, {22, 0x01}, {510, 0x00}};
  for (std::size_t i = 0; i < std::size(kWrong); i += kit::thinned(1) == 1 ? 1u : 4u) {
    const auto& [at, value] = kWrong[i];
    kit::Bytes disk = whole;
    disk[boot + at] = static_cast<std::byte>(value);
    ASSERT_NE(disk, whole) << at;
    const Lab lab(disk);
    const RepairPlan plan = lab.plan();
    ASSERT_EQ(plan.steps.size(), 1u) << at;
    EXPECT_TRUE(mended(lab, plan) == whole) << at << ": " << plan.steps[0].what;
  }
}

TEST(RepairPlan, WithoutATableMoreThanFourVolumesMakeAGpt) {
  constexpr std::size_t kMiB = 1u << 20;
  kit::Bytes disk(24 * kMiB);
  for (std::size_t i = 0; i < 5; ++i) {
    const std::size_t at = (2 + 4 * i) * kMiB;
    kit::put(disk, at + 1024, 1, 4);
    kit::put(disk, at + 1028, 767, 4);
    kit::put_text(disk, at + 4086, "SWAPSPACE2");
  }
  const Lab lab(disk);
  const RepairPlan plan = lab.plan();
  mended(lab, plan);
  const Target target = Session({}, lab.context).open_disk(lab.address());
  const VolumeTable& table = target.disks.back()->table;
  EXPECT_EQ(table.scheme, "gpt");
  ASSERT_EQ(table.rows.size(), 5u);
  EXPECT_EQ(table.rows[4].range, (Range{18 * kMiB, 3 * kMiB}));
  EXPECT_EQ(table.rows[4].type_code, "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f");
  EXPECT_TRUE(lab.plan().steps.empty());
}

TEST(RepairPlan, AVolumeFirmwareStartsFromGetsAnEntryOfItsKind) {
  kit::FatBuilder fat(kit::FatBuilder::Width::fat16);
  fat.folder(0, "EFI", {3});
  const kit::Bytes volume = fat.bytes();
  kit::Bytes disk((1u << 20) + volume.size() + (1u << 20));
  kit::put_bytes(disk, 1u << 20, volume);
  const Lab lab(disk);
  mended(lab, lab.plan());
  const Target target = Session({}, lab.context).open_disk(lab.address());
  ASSERT_EQ(target.disks.back()->table.rows.size(), 1u);
  EXPECT_EQ(target.disks.back()->table.rows[0].type_code, "c12a7328-f81f-11d2-ba4b-00a0c93ec93b");
}

TEST(OwnBootCode, FitsItsPlaceAndBeginsByMovingItself) {
  const ByteView code = own_boot_code();
  ASSERT_EQ(code.size(), 440u);
  EXPECT_EQ(code[0], std::byte{0xFA});  // no interrupts while the stack moves
}

}  // namespace
}  // namespace lantern::repair
