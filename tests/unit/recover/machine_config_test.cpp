#include <gtest/gtest.h>

#include "recover/machines/config.h"

namespace lantern {
namespace {

TEST(MachineXml, ARegistryOfMediaNamesTheDisksInTheOrderOfTheirPorts) {
  const auto config = parse_machine_xml(R"(<?xml version="1.0"?>
    <Settings><Machine uuid="{1}" name="Skerrow Station" stateFile="Snapshots/1.sav">
      <MediaRegistry><HardDisks>
        <HardDisk uuid="{aa}" location="station.vdi">
          <HardDisk uuid="{bb}" location="snap/bb.vdi"/></HardDisk>
      </HardDisks></MediaRegistry>
      <Snapshot uuid="{cc}" name="before the storm" timeStamp="2026-03-14T08:30:02Z"/>
      <StorageControllers><StorageController name="SATA">
        <AttachedDevice type="HardDisk" port="0"><Image uuid="{bb}"/></AttachedDevice>
        <AttachedDevice type="DVD" port="1"><Image uuid="{dd}"/></AttachedDevice>
        <AttachedDevice type="HardDisk" port="2"><Image uuid="{ee}"/></AttachedDevice>
      </StorageController></StorageControllers>
    </Machine></Settings>)");
  ASSERT_TRUE(config);
  EXPECT_EQ(config->name, "Skerrow Station");
  EXPECT_EQ(config->saved_state, "Snapshots/1.sav");
  ASSERT_EQ(config->disks.size(), 2U);
  EXPECT_EQ(config->disks[0].slot, "SATA port 0");
  EXPECT_EQ(config->disks[0].file, "snap/bb.vdi");
  EXPECT_EQ(config->disks[0].id, "bb");
  EXPECT_EQ(config->disks[1].file, "") << "its file is not in the registry, its identity is known";
  EXPECT_EQ(config->disks[1].id, "ee");
  ASSERT_EQ(config->snapshots.size(), 1U);
  EXPECT_EQ(config->snapshots[0].name, "before the storm");
}

TEST(MachineXml, ADomainNamesFilesDevicesAndVolumes) {
  const auto config = parse_machine_xml(R"(<domain><name>tides</name><devices>
      <disk type="file" device="disk"><source file="/m/tides.qcow2"/><target dev="vda"/></disk>
      <disk type="file" device="cdrom"><source file="/m/install.iso"/><target dev="sda"/></disk>
      <disk type="block"><source dev="/dev/keeper"/><target dev="vdb"/></disk>
    </devices></domain>)");
  ASSERT_TRUE(config);
  ASSERT_EQ(config->disks.size(), 2U);
  EXPECT_EQ(config->disks[0].slot, "vda");
  EXPECT_EQ(config->disks[0].file, "/m/tides.qcow2");
  EXPECT_EQ(config->disks[1].file, "/dev/keeper");
}

TEST(MachineXml, AnEnvelopeJoinsDevicesDisksAndFiles) {
  const auto config = parse_machine_xml(R"(<ovf:Envelope xmlns:ovf="o" xmlns:rasd="r">
      <ovf:References><ovf:File ovf:id="f1" ovf:href="a.vmdk"/>
        <ovf:File ovf:id="f2" ovf:href="b.vmdk"/></ovf:References>
      <ovf:DiskSection><ovf:Disk ovf:diskId="d1" ovf:fileRef="f1"/>
        <ovf:Disk ovf:diskId="d2" ovf:fileRef="f2"/></ovf:DiskSection>
      <ovf:VirtualSystem ovf:id="station"><ovf:Item>
        <rasd:ElementName>Hard disk 1</rasd:ElementName>
        <rasd:HostResource>ovf:/disk/d2</rasd:HostResource>
        </ovf:Item></ovf:VirtualSystem></ovf:Envelope>)");
  ASSERT_TRUE(config);
  EXPECT_EQ(config->name, "station");
  ASSERT_EQ(config->disks.size(), 2U);
  EXPECT_EQ(config->disks[0].slot, "Hard disk 1");
  EXPECT_EQ(config->disks[0].file, "b.vmdk");
  EXPECT_EQ(config->disks[1].file, "a.vmdk") << "a disk no device names is a disk all the same";
}

TEST(MachineXml, WhatStandsBeforeABreakIsUsed) {
  const auto config = parse_machine_xml(
      "<domain><name>tides</name><devices><disk><source file='a.qcow2'/></disk><disk><sour");
  ASSERT_TRUE(config);
  ASSERT_FALSE(config->disks.empty());
  EXPECT_EQ(config->disks[0].file, "a.qcow2");
}

TEST(MachineXml, OtherXmlIsNoMachine) {
  EXPECT_FALSE(parse_machine_xml("<html><body/></html>"));
  EXPECT_FALSE(parse_machine_xml("nest counts"));
  EXPECT_FALSE(parse_machine_xml(""));
}

TEST(MachineLines, KeysOfBusAndNumberAreDisks) {
  const auto config = parse_machine_lines(
      "config.version = \"8\"\r\ndisplayName = \"Skerrow Station\"\r\n"
      "scsi0:1.fileName = \"second.vmdk\"\r\nscsi0:1.present = \"TRUE\"\r\n"
      "scsi0:0.fileName = \"first.vmdk\"\r\nscsi0:0.present = \"TRUE\"\r\n"
      "ide1:0.fileName = \"install.iso\"\r\nide1:0.deviceType = \"cdrom-image\"\r\n",
      "station.vmx");
  ASSERT_TRUE(config);
  EXPECT_EQ(config->name, "Skerrow Station");
  ASSERT_EQ(config->disks.size(), 2U);
  EXPECT_EQ(config->disks[0].slot, "scsi0:0");
  EXPECT_EQ(config->disks[0].file, "first.vmdk");
  EXPECT_EQ(config->disks[1].file, "second.vmdk");
}

TEST(MachineLines, OtherTextIsNoMachine) {
  EXPECT_FALSE(parse_machine_lines("14 March: two eggs", "log.txt"));
  EXPECT_FALSE(parse_machine_lines("", "station.vmx"));
}

}  // namespace
}  // namespace lantern
