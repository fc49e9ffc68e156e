#include "recover/machines/volume_claims.h"

#include <gtest/gtest.h>

#include "kit/fat_builder.h"

namespace lantern {
namespace {

using kit::Bytes;

constexpr std::string_view kTables =
    "<?xml version='1.0'?><database><manifest/>"
    "<table name='VM'>"
    "<row ref='OpaqueRef:m' uuid='m1' name__label='lamp%.room%%' is_a_template='false'/>"
    "<row ref='OpaqueRef:t' uuid='t1' name__label='template' is_a_template='true'/></table>"
    "<table name='VBD'>"
    "<row ref='b1' VM='OpaqueRef:m' VDI='OpaqueRef:d' userdevice='0'/>"
    "<row ref='b2' VM='OpaqueRef:t' VDI='OpaqueRef:d' userdevice='0'/>"
    "<row ref='b3' VM='OpaqueRef:m' VDI='OpaqueRef:none' userdevice='3'/></table>"
    "<table name='VDI'><row ref='OpaqueRef:d' uuid='5b5b0001-0000-4000-8000-534b45525259' "
    "name__label='system%.disk'/></table></database>";
constexpr std::string_view kDomain =
    "<domain type='kvm'><name>mail</name><devices><disk type='block' device='disk'>"
    "<source dev='/dev/mapper/sker--row-mail'/><target dev='vda'/></disk></devices></domain>";

// A volume with these files.
VolumePtr volume_with(const std::vector<std::pair<std::string, std::string_view>>& files) {
  kit::FatBuilder fat(kit::FatBuilder::Width::fat16);
  std::uint32_t cluster = 2;
  for (const auto& [name, text] : files) {
    kit::FatBuilder::Clusters clusters;
    for (std::size_t at = 0; at < text.size(); at += 512) clusters.push_back(cluster++);
    fat.file(0, name, kit::bytes_of(text), clusters);
  }
  const SourcePtr bytes = make_memory_source(fat.bytes());
  VolumeRow row;
  row.range = {0, bytes->size()};
  Address address;
  address.first = "root.img";
  return std::make_shared<VolumeLayer>(address, row, FileSystemSources(bytes),
                                       std::vector<LayerPtr>(), FileSystemOptions(), Context());
}

// A group with volumes of these names.
SpannedSets sets_with(const std::string& group, const std::vector<std::string>& names) {
  SpannedSets sets;
  SpannedSets::Set one;
  one.set.format = "lvm";
  one.set.name = one.name = group;
  for (const std::string& name : names) {
    SpannedVolume volume;
    volume.name = name;
    one.set.volumes.push_back(volume);
    Address address;
    address.first = name;
    one.volumes.push_back(std::make_shared<VolumeLayer>(address, VolumeRow(),
                                                        make_memory_source(Bytes(512)), nullptr));
  }
  sets.sets.push_back(std::move(one));
  return sets;
}

TEST(VolumeClaims, ReadTheTablesOfAHypervisor) {
  const auto claims = volume_claims(volume_with({{"state.db", kTables}}), Context());
  ASSERT_EQ(claims.size(), 1u) << "a template and a disk that is not there claim nothing";
  EXPECT_EQ(claims[0].machine, "lamp room%");
  EXPECT_EQ(claims[0].disk_name, "system disk");
  EXPECT_EQ(claims[0].slot, "disk 0");
  EXPECT_EQ(claims[0].config, "root.img::/state.db");
  const SpannedSets sets =
      sets_with("VG_store", {"MGT", "VHD-5b5b0001-0000-4000-8000-534b45525259", "VHD-other"});
  const VolumePtr claimed = claimed_volume(claims[0], sets);
  ASSERT_TRUE(claimed);
  EXPECT_EQ(claimed->address.first, "VHD-5b5b0001-0000-4000-8000-534b45525259");
}

TEST(VolumeClaims, ReadDefinitionsThatNameDevices) {
  const auto claims = volume_claims(volume_with({{"mail.xml", kDomain}}), Context());
  ASSERT_EQ(claims.size(), 1u);
  EXPECT_EQ(claims[0].machine, "mail");
  EXPECT_TRUE(claimed_volume(claims[0], sets_with("sker-row", {"mail"})));
  EXPECT_FALSE(claimed_volume(claims[0], sets_with("sker", {"row-mail"})));
  VolumeClaim plain = claims[0];
  plain.written = "/dev/sker-row/mail";
  EXPECT_TRUE(claimed_volume(plain, sets_with("sker-row", {"mail"})));
  plain.written = "/dev/md0";
  EXPECT_FALSE(claimed_volume(plain, sets_with("sker-row", {"mail"})));
}

TEST(VolumeClaims, DamagedTablesGiveWhatIsLeft) {
  for (std::size_t length = 0; length < kTables.size(); length += 7)
    EXPECT_LE(
        volume_claims(volume_with({{"state.db", kTables.substr(0, length)}}), Context()).size(),
        1u);
}

}  // namespace
}  // namespace lantern
