#include "repair/partition_codes.h"

#include <gtest/gtest.h>

namespace lantern::repair {
namespace {

VolumeRow row_of(const std::string& type) {
  VolumeRow row;
  row.type_code = type;
  return row;
}

TEST(PartitionCodes, TheTypeInTheTableContradictsOtherKinds) {
  EXPECT_TRUE(type_contradicts(row_of("0x83"), "fat"));
  EXPECT_TRUE(type_contradicts(row_of("0x83"), "ntfs"));
  EXPECT_FALSE(type_contradicts(row_of("0x83"), "ext"));
  EXPECT_FALSE(type_contradicts(row_of("0x0c"), "fat"));
  EXPECT_TRUE(type_contradicts(row_of("0x0c"), "ext"));
  EXPECT_FALSE(type_contradicts(row_of("0x07"), "exfat"));
  EXPECT_TRUE(type_contradicts(row_of("c12a7328-f81f-11d2-ba4b-00a0c93ec93b"), "ext"));
  EXPECT_FALSE(type_contradicts(row_of("c12a7328-f81f-11d2-ba4b-00a0c93ec93b"), "fat"));
  EXPECT_TRUE(type_contradicts(row_of("0fc63daf-8483-4772-8e79-3d69d8477de4"), "fat"));
  EXPECT_TRUE(type_contradicts(row_of("e6d6d379-f507-44c2-a23c-238f2a3df928"), "ext"));
  // A disk without a table says nothing.
  for (const char* const kind : {"fat", "ntfs", "exfat", "ext"})
    EXPECT_FALSE(type_contradicts(row_of(""), kind));
}

TEST(PartitionCodes, AnEntryIsLaidForWhatTheVolumeHolds) {
  constexpr std::uint64_t kMiB = 1 << 20;
  EXPECT_EQ(mbr_type_for("fat", "fat16", 16 * kMiB, false), 0x04);
  EXPECT_EQ(mbr_type_for("fat", "fat16", 64 * kMiB, false), 0x06);
  EXPECT_EQ(mbr_type_for("fat", "fat16", 16 * kMiB, true), 0x0E);
  EXPECT_EQ(mbr_type_for("fat", "fat32", 64 * kMiB, true), 0x0C);
  EXPECT_EQ(mbr_type_for("fat", "fat32", 64 * kMiB, false), 0x0B);
  EXPECT_EQ(mbr_type_for("fat", "fat12", kMiB, true), 0x01);
  EXPECT_EQ(mbr_type_for("ntfs", "ntfs", kMiB, true), 0x07);
  EXPECT_EQ(mbr_type_for("ext", "ext4", kMiB, true), 0x83);
  EXPECT_EQ(mbr_type_for("swap", "swap", kMiB, true), 0x82);
  EXPECT_EQ(mbr_type_for("lvm", "lvm", kMiB, true), 0x8E);
  EXPECT_EQ(mbr_type_for("md", "md", kMiB, true), 0xFD);
  EXPECT_EQ(mbr_type_for("xfs", "xfs", kMiB, true), 0x83) << "of a format without codes";
  EXPECT_EQ(gpt_type_for("md"), "a19d880f-05fc-4d3b-a006-743f0f84911e");
  EXPECT_EQ(gpt_type_for("xfs"), "");
}

TEST(PartitionCodes, HiddenAndServiceKindsMayStandForWhatTheyHide) {
  EXPECT_TRUE(mbr_type_may_be(0x17, "ntfs", "ntfs"));
  EXPECT_TRUE(mbr_type_may_be(0x27, "ntfs", "ntfs"));
  EXPECT_TRUE(mbr_type_may_be(0xEF, "fat", "fat16"));
  EXPECT_FALSE(mbr_type_may_be(0x0B, "fat", "fat16"));
  EXPECT_FALSE(mbr_type_may_be(0x07, "fat", "fat32"));
  EXPECT_TRUE(mbr_type_may_be(0x8E, "ext", "ext4"));
  EXPECT_FALSE(mbr_type_may_be(0x82, "ext", "ext2"));
  EXPECT_TRUE(mbr_type_may_be(0x07, "xfs", "xfs")) << "of a format without codes any may";
}

}  // namespace
}  // namespace lantern::repair
