// A step "as=FORMAT": what stands before it, read by hand.
#include <gtest/gtest.h>

#include "kit/disk_builder.h"
#include "kit/ext_builder.h"
#include "kit/fat_builder.h"
#include "kit/iso_builder.h"
#include "kit/ntfs_builder.h"
#include "lantern/error.h"
#include "lantern/nest/session.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

using kit::Bytes;

class AsFormat : public testing::Test {
 protected:
  std::string at(const Bytes& disk) { return folder_.file("disk.img", disk); }
  Target open(const std::string& address) const {
    return Session({}, context_).open_volume(Address::parse(address));
  }
  ErrorCode code_of(const std::string& address) const {
    try {
      open(address);
    } catch (const Error& error) {
      return error.code();
    }
    ADD_FAILURE() << address << " was opened";
    return ErrorCode::stopped;
  }

  kit::Folder folder_;
  Context context_;
};

Bytes ntfs_volume() {
  kit::NtfsBuilder volume;
  volume.file(30, kit::NtfsBuilder::kRoot, "log.txt", 210, kit::bytes_of("two eggs"));
  return volume.bytes();
}

TEST_F(AsFormat, FiguresByHandReadNtfsWithoutABootSector) {
  Bytes disk = ntfs_volume();
  std::fill_n(disk.begin(), 512, std::byte{0});
  std::fill_n(disk.end() - 512, 512, std::byte{0});
  std::fill_n(disk.begin() + static_cast<std::ptrdiff_t>(disk.size() / 1024 * 512), 512,
              std::byte{0});
  const std::string path = at(disk);
  EXPECT_EQ(code_of(path), ErrorCode::cannot_read);
  const std::string address = path + "::1::as=ntfs,cluster=1024,table=8192";
  const Target target = open(address);
  EXPECT_EQ(target.volume->address.print(), address);
  const auto found = target.file_system().find({"log.txt"});
  ASSERT_EQ(found.size(), 1u);
  EXPECT_EQ(kit::read_all(*target.file_system().open(found[0]).bytes), kit::bytes_of("two eggs"));
  for (const char* const wrong :
       {"cluster=1000,table=8192", "cluster=1024,table=99999999999", "cluster=1024,table=9000",
        "cluster=0,table=8192", "record=18446744073709551615,table=8192", "sector=512"})
    EXPECT_EQ(code_of(path + "::1::as=ntfs," + wrong), ErrorCode::cannot_read) << wrong;
}

TEST_F(AsFormat, ASuperblockByHandReadsExt) {
  kit::ExtBuilder ext;
  ext.file(12, 40, kit::bytes_of("one chick"));
  ext.folder(2, 2, kit::ExtBuilder::kRootBlock, {{"log.txt", 12}});
  Bytes disk = ext.bytes();
  // Where no reader looks for one.
  constexpr std::size_t kOdd = 50 * 1024 + 512;
  std::copy_n(disk.begin() + 1024, 1024, disk.begin() + kOdd);
  std::fill_n(disk.begin() + 1024, 1024, std::byte{0});
  const std::string path = at(disk);
  EXPECT_EQ(code_of(path), ErrorCode::cannot_read);
  const Target target = open(path + "::1::as=ext,superblock=51712");
  EXPECT_EQ(target.file_system().find({"log.txt"}).size(), 1u);
  EXPECT_EQ(code_of(path + "::1::as=ext,superblock=512"), ErrorCode::cannot_read);
}

TEST_F(AsFormat, OnlyThatFormatIsAsked) {
  kit::FatBuilder fat(kit::FatBuilder::Width::fat16);
  fat.file(0, "log.txt", kit::bytes_of("two eggs"), {2});
  const std::string path = at(fat.bytes());
  EXPECT_EQ(open(path + "::as=fat").file_system().facts().type, "fat16");
  EXPECT_EQ(open(path + "::1::as=fat").file_system().facts().type, "fat16");
  EXPECT_EQ(open(path + "::as=raw::1").file_system().facts().type, "fat16");
  EXPECT_EQ(code_of(path + "::as=ntfs"), ErrorCode::cannot_read);
  EXPECT_EQ(code_of(path + "::as=vdi"), ErrorCode::cannot_read);
  for (const char* const wrong : {"as=lamp", "as=xfs", "as=fat,lamp=512", "as=ntfs,lamp=1",
                                  "as=ntfs,table", "as=ntfs,table=x", "as=", "as=ntfs,,"})
    EXPECT_EQ(code_of(path + "::" + wrong), ErrorCode::usage) << wrong;
}

TEST_F(AsFormat, ASecondFileSystemInAVolumeIsNamed) {
  kit::FatBuilder fat(kit::FatBuilder::Width::fat16);
  fat.file(0, "log.txt", kit::bytes_of("two eggs"), {2});
  Bytes disk = fat.bytes();
  const std::string path = at(disk);
  EXPECT_TRUE(
      Session({}, context_).open(Address::parse(path)).disk().volumes[0].alternatives().empty());
  // A disc's structures begin 32 KiB in: a FAT made later may leave them all.
  kit::IsoBuilder disc(false);
  disc.file(kit::IsoBuilder::kRoot, "LOG.TXT", kit::pattern(10, 1), 30);
  const Bytes& iso = disc.bytes();
  disk.resize(std::max(disk.size(), iso.size()));
  std::copy(iso.begin() + 32768, iso.end(), disk.begin() + 32768);
  const Target both = Session({}, context_).open(Address::parse(at(disk)));
  const VolumeLayer& volume = both.disk().volumes[0];
  ASSERT_TRUE(volume.file_system());
  const std::string format = volume.file_system()->facts().format;
  const std::string other = format == "fat" ? "iso9660" : "fat";
  EXPECT_EQ(volume.alternatives(), std::vector<std::string>{other});
  const std::string address = volume.address.print() + "::as=" + other;
  EXPECT_EQ(open(address).file_system().facts().format, other);
}

}  // namespace
}  // namespace lantern
