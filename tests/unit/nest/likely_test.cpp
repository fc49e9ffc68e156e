#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "kit/fat_builder.h"
#include "lantern/nest/target.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

using kit::FatBuilder;

// A disk whose volumes hold these names in their root folders.
DiskLayer& add_volume(DiskLayer& disk, const std::vector<std::string>& names, bool system = false) {
  FatBuilder fat(FatBuilder::Width::fat16);
  std::uint32_t cluster = 10;
  for (const std::string& name : names) {
    if (name.ends_with('/'))
      fat.folder(0, name.substr(0, name.size() - 1), {cluster});
    else
      fat.file(0, name, kit::pattern(100, cluster), {cluster});
    ++cluster;
  }
  VolumeRow row;
  row.number = disk.volumes.size() + 1;
  row.system = system;
  row.type = "EFI system";
  const SourcePtr bytes = make_memory_source(fat.bytes());
  disk.volumes.push_back(std::make_shared<VolumeLayer>(Address{"disk.img", {}}, row, bytes,
                                                       open_file_system(bytes, {}, Context())));
  return disk;
}

VolumeChoice choice(const DiskLayer& disk) {
  return choose_volume(disk.volumes.all(), Context());
}

TEST(ChooseVolume, FilesPeopleMakeCountMoreThanMany) {
  DiskLayer disk;
  add_volume(disk, {"a.dll", "b.dll", "c.dll", "d.dll", "e.dll", "f.dll"});
  add_volume(disk, {"holiday.jpg"});
  const VolumeChoice chosen = choice(disk);
  EXPECT_EQ(chosen.index, 1u);
  EXPECT_EQ(chosen.why, "1 user document (1 picture); volume 1 has none of these");
}

TEST(ChooseVolume, ABootVolumeWithAStrayTextIsNotTheUsers) {
  DiskLayer disk;
  add_volume(disk, {"EFI/", "readme.txt"});
  add_volume(disk, {"letter.odt"});
  const VolumeChoice chosen = choice(disk);
  EXPECT_EQ(chosen.index, 1u);
  EXPECT_NE(chosen.why.find("has boot files (\"EFI\")"), std::string::npos) << chosen.why;
}

TEST(ChooseVolume, ASystemVolumeByItsTypeStaysBehind) {
  DiskLayer disk;
  add_volume(disk, {"a.txt", "b.txt"}, true);
  add_volume(disk, {"a.txt"});
  EXPECT_EQ(choice(disk).index, 1u);
}

TEST(ChooseVolume, AFolderOfUsersSaysWhy) {
  DiskLayer disk;
  add_volume(disk, {"DCIM/", "a.jpg"});
  const VolumeChoice chosen = choice(disk);
  EXPECT_EQ(chosen.index, 0u);
  EXPECT_EQ(chosen.why, "1 user document (1 picture), a folder \"DCIM\"; the only volume");
}

TEST(ChooseVolume, NoneThatCanBeReadIsNone) {
  DiskLayer disk;
  disk.volumes.push_back(std::make_shared<VolumeLayer>());
  EXPECT_FALSE(choice(disk).index);
  EXPECT_FALSE(choice(DiskLayer()).index);
}

}  // namespace
}  // namespace lantern
