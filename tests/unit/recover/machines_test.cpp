#include "lantern/machines.h"

#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "kit/disk_builder.h"
#include "kit/fat_builder.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using kit::Bytes;
using kit::FatBuilder;
using Clusters = FatBuilder::Clusters;

constexpr const char* kSettings =
    "config.version = \"8\"\ndisplayName = \"Keeper\"\nscsi0:0.fileName = \"keeper.vmdk\"\n"
    "scsi0:0.present = \"TRUE\"\n";

std::string descriptor(const std::string& extent) {
  return "# Disk DescriptorFile\nversion=1\nCID=0badcafe\nparentCID=ffffffff\n"
         "createType=\"monolithicFlat\"\nRW 4 FLAT \"" +
         extent + "\" 0\n";
}

// A FAT16 volume with the folder of a machine: its settings, a disk and the disk's extent.
class Machines : public ::testing::Test {
 protected:
  Machines() : volume_(FatBuilder::Width::fat16) {
    folder_slot_ = volume_.folder(0, "Keeper", {10});
    settings_ = put("keeper.vmx", kit::bytes_of(kSettings), {20});
    disk_ = put("keeper.vmdk", kit::bytes_of(descriptor("keeper-flat.vmdk")), {21});
    extent_ = put("keeper-flat.vmdk", kit::pattern(2048, 1), {22, 23, 24, 25});
  }

  std::uint64_t put(const std::string& name, const Bytes& content, const Clusters& clusters,
                    const std::string& short_name_alone = {}) {
    FatBuilder::FileOptions options;
    options.long_name = short_name_alone.empty();
    options.short_name = short_name_alone;
    return volume_.file(10, name, content, clusters, options);
  }

  void remove_all() {
    volume_.remove(settings_, {20});
    volume_.remove(disk_, {21});
    volume_.remove(extent_, {22, 23, 24, 25});
    volume_.remove(folder_slot_, {10});
  }

  MachinesFound find(bool deleted, const std::string& steps = "") {
    const std::string path = folder_.file("host.img", volume_.bytes());
    const Address address =
        Address::parse(path + steps, [&](const std::string& one) { return one == path; });
    return find_machines(address, {deleted, 2}, Session({}, context_));
  }

  kit::Folder folder_;
  Context context_;
  FatBuilder volume_;
  std::uint64_t folder_slot_ = 0, settings_ = 0, disk_ = 0, extent_ = 0;
};

TEST_F(Machines, AreFoundOnAVolume) {
  const MachinesFound found = find(false);
  ASSERT_EQ(found.machines.size(), 1u);
  const Machine& machine = found.machines.front();
  EXPECT_EQ(machine.name, "Keeper");
  EXPECT_TRUE(machine.complete()) << machine.missing.front();
  EXPECT_EQ(machine.files.size(), 3u);
  EXPECT_EQ(machine.disks.front().size_bytes, 2048u);
  ASSERT_TRUE(machine.restore);
  EXPECT_FALSE(machine.restore->deleted);
  EXPECT_TRUE(machine.restore->ids.empty());
  EXPECT_EQ(machine.restore->address, machine.address);
  EXPECT_TRUE(found.loose.empty());
}

TEST_F(Machines, DeletedOnesAreFoundWhenAsked) {
  remove_all();
  EXPECT_TRUE(find(false).machines.empty());
  const MachinesFound found = find(true);
  ASSERT_EQ(found.machines.size(), 1u);
  EXPECT_EQ(found.machines.front().found, EntryState::deleted);
  EXPECT_TRUE(found.machines.front().complete()) << found.machines.front().missing.front();
  EXPECT_TRUE(found.machines.front().restore->deleted);
  EXPECT_FALSE(found.machines.front().restore->active);
}

TEST_F(Machines, AFolderIsEnoughOfAnAddress) {
  EXPECT_EQ(find(false, "::1::/Keeper").machines.size(), 1u);
  EXPECT_EQ(find(false, "::1").machines.size(), 1u);
}

TEST_F(Machines, NamesThatLostTheirFirstLetterAreCompleted) {
  volume_.remove(disk_, {21});
  volume_.remove(settings_, {20});
  settings_ = put("KEEPER.VMX", kit::bytes_of(kSettings), {30}, "KEEPER  VMX");
  volume_.remove(settings_, {30});
  disk_ = put("KEEPER.VMD", kit::bytes_of(descriptor("keeper-flat.vmdk")), {31}, "KEEPER  VMD");
  volume_.remove(disk_, {31});
  const MachinesFound found = find(true);
  bool completed = false;
  for (const Machine& machine : found.machines)
    for (const MachineFile& file : machine.files)
      completed = completed || (file.path == "_EEPER.VMX" && file.written_as == "KEEPER.VMX");
  std::string names;
  for (const Machine& machine : found.machines)
    for (const MachineFile& file : machine.files) names += file.path + ">" + file.written_as + " ";
  EXPECT_TRUE(completed) << names;
}

TEST_F(Machines, AMissingDiskIsSaidWithACandidate) {
  std::string settings = kSettings;
  settings.replace(settings.find("keeper.vmdk"), 11, "photos.vmdk");
  volume_.remove(settings_, {20});
  put("keeper.vmx", kit::bytes_of(settings), {29});
  volume_.folder(0, "Moved", {40});
  volume_.file(40, "photos.vmdk", kit::bytes_of(descriptor("keeper-flat.vmdk")), {41});
  const MachinesFound found = find(false);
  ASSERT_EQ(found.machines.size(), 1u);
  EXPECT_FALSE(found.machines.front().complete());
  EXPECT_TRUE(found.machines.front().disks.front().candidate.ends_with("/Moved/photos.vmdk"))
      << found.machines.front().disks.front().candidate;
  EXPECT_TRUE(context_.findings->worse_than_note());
}

TEST_F(Machines, AMissingExtentIsSaid) {
  volume_.remove(extent_, {22, 23, 24, 25});
  // Its clusters are another's now.
  volume_.file(0, "new.bin", kit::pattern(2048, 9), {22, 23, 24, 25});
  const MachinesFound found = find(true);
  ASSERT_EQ(found.machines.size(), 1u);
  ASSERT_FALSE(found.machines.front().complete());
}

TEST_F(Machines, ABackupCopyStandsInForADamagedConfiguration) {
  volume_.remove(settings_, {20});
  constexpr const char* kXml =
      "<domain><name>Keeper</name><devices><disk type='file' device='disk'>"
      "<source file='/x/keeper.vmdk'/><target dev='vda'/></disk></devices></domain>";
  put("keeper.xml", kit::bytes_of(std::string(kXml).substr(0, 120)), {50});
  put("keeper.xml~", kit::bytes_of(kXml), {51});
  const MachinesFound found = find(false);
  ASSERT_EQ(found.machines.size(), 1u);
  const Machine& machine = found.machines.front();
  EXPECT_TRUE(machine.backup);
  EXPECT_TRUE(machine.config.ends_with("keeper.xml~"));
  ASSERT_EQ(machine.missing.size(), 1u);
  EXPECT_NE(machine.missing.front().find("keeper.xml~"), std::string::npos);
}

TEST_F(Machines, LockFilesAreLeftOutAndDoNotMeanThatItRuns) {
  put("keeper.vmdk.lck", kit::bytes_of("bench"), {60});
  const MachinesFound found = find(false);
  ASSERT_EQ(found.machines.size(), 1u);
  EXPECT_EQ(found.machines.front().state, MachineState::off);
  EXPECT_TRUE(found.machines.front().restore->locks);
}

TEST_F(Machines, TwoThatShareAFolderAreTakenApart) {
  std::string other = kSettings;
  other.replace(other.find("Keeper"), 6, "Mate");
  other.replace(other.find("keeper.vmdk"), 11, "mate.vmdk");
  put("mate.vmx", kit::bytes_of(other), {70});
  put("mate.vmdk", kit::bytes_of(descriptor("mate-flat.vmdk")), {71});
  put("mate-flat.vmdk", kit::pattern(2048, 3), {72, 73, 74, 75});
  const MachinesFound found = find(false);
  ASSERT_EQ(found.machines.size(), 2u);
  for (const Machine& machine : found.machines) {
    EXPECT_TRUE(machine.complete()) << machine.missing.front();
    EXPECT_EQ(machine.restore->ids.size(), 3u) << machine.name;
  }
}

TEST_F(Machines, TwoOfANameAreBothListed) {
  volume_.folder(0, "Copy", {80});
  volume_.file(80, "keeper.vmx", kit::bytes_of(kSettings), {81});
  const MachinesFound found = find(false);
  EXPECT_EQ(found.machines.size(), 2u);
  bool said = false;
  for (const Finding& finding : context_.findings->all())
    said = said || finding.code == FindingCode::machine_two_of_a_name;
  EXPECT_TRUE(said);
}

TEST_F(Machines, ImagesThatNoMachineNamesAreLoose) {
  volume_.file(0, "spare.vdi", kit::make_vdi(kit::pattern(1 << 20, 4), {}), [] {
    Clusters clusters;
    for (std::uint32_t i = 0; i < 2051; ++i) clusters.push_back(200 + i);
    return clusters;
  }());
  const MachinesFound found = find(false);
  ASSERT_EQ(found.loose.size(), 1u);
  EXPECT_TRUE(found.loose.front().address.ends_with("/spare.vdi"));
  EXPECT_EQ(found.loose.front().format, "vdi");
  EXPECT_EQ(found.loose.front().size_bytes, 1u << 20);
}

TEST_F(Machines, AnImageThatIsItsOwnParentIsNoEnd) {
  volume_.remove(disk_, {21});
  std::string own = descriptor("keeper-flat.vmdk");
  own.replace(own.find("parentCID=ffffffff"), 18, "parentCID=0badcafe");
  own += "parentFileNameHint=\"keeper.vmdk\"\n";
  put("keeper.vmdk", kit::bytes_of(own), {90});
  const MachinesFound found = find(false);
  ASSERT_EQ(found.machines.size(), 1u);
  EXPECT_FALSE(found.machines.front().complete());
}

}  // namespace
}  // namespace lantern
