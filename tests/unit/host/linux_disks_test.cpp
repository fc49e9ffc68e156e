// The inventory read from a tree laid like the system's own.
#include "host/linux_disks.h"

#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>

#include "kit/bytes.h"

namespace lantern {
namespace {

namespace fs = std::filesystem;

using Words = std::vector<std::string>;

Words words(const std::vector<HostUse>& uses) {
  Words all;
  for (const HostUse& use : uses) all.push_back(use.words);
  return all;
}

class LinuxDisks : public testing::Test {
 protected:
  LinuxDisks() {
    fs::create_directories(folder_ / "sys/block");
    fs::create_directories(folder_ / "proc/self");
    fs::create_directories(folder_ / "udev");
  }

  // A block device at its place among the system's devices.
  fs::path device(const std::string& name, const std::string& place, const std::string& number,
                  std::uint64_t sectors) {
    const fs::path path = fs::path(folder_ / "sys/devices") / place / "block" / name;
    fs::create_directories(path);
    fs::create_directory_symlink(path, fs::path(folder_ / "sys/block") / name);
    put(path / "dev", number);
    put(path / "size", std::to_string(sectors));
    return path;
  }
  static void put(const fs::path& path, const std::string& text) {
    fs::create_directories(path.parent_path());
    std::ofstream(path) << text << '\n';
  }
  void mounts(const std::string& lines) { put(folder_ / "proc/self/mountinfo", lines); }
  std::vector<HostDisk> disks() const {
    return linux_disks({folder_ / "sys", folder_ / "proc", folder_ / "udev"});
  }

  kit::Folder folder_;
};

TEST_F(LinuxDisks, AUsbDiskWithPartitionsSaysAllItKnows) {
  const fs::path disk = device(
      "sdc", "pci0000:00/0000:00:14.0/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0", "8:32", 4096);
  put(disk / "device/model", "Guillemot 2    ");
  put(disk / "device/vendor", "Skerrow ");
  put(disk / "device/ioerr_cnt", "0x1a");
  put(disk / "device/vpd_pg80", std::string("\0\x80\0\x08SKR-0041", 12));
  put(disk / "queue/logical_block_size", "512");
  put(disk / "queue/physical_block_size", "4096");
  put(disk / "queue/rotational", "1");
  put(disk / "removable", "1");
  put(disk / "ro", "0");
  put(disk / "device/hwmon/hwmon3/temp1_input", "31500");
  put(disk / "sdc1/partition", "1");
  put(disk / "sdc1/dev", "8:33");
  put(disk / "sdc1/start", "2048");
  put(disk / "sdc1/size", "1024");
  mounts("40 1 8:33 / /srv/sea\\040birds rw - vfat /dev/sdc1 rw");

  const auto found = disks();
  ASSERT_EQ(found.size(), 1u);
  const HostDisk& one = found.front();
  EXPECT_EQ(one.device, "/dev/sdc");
  EXPECT_EQ(one.model, "Skerrow Guillemot 2");
  EXPECT_EQ(one.serial, "SKR-0041");
  EXPECT_EQ(one.bus, "usb");
  EXPECT_EQ(one.port, "pci0000:00-0000:00:14.0-usb2-2-1-2-1:1.0-6:0:0:0");
  EXPECT_EQ(one.size_bytes, 4096u * 512);
  EXPECT_EQ(one.physical_sector_bytes, 4096u);
  EXPECT_EQ(one.rotates, true);
  EXPECT_TRUE(one.removable);
  EXPECT_FALSE(one.read_only);
  EXPECT_EQ(one.temperature_celsius, 31);
  EXPECT_EQ(one.health, "26 requests failed since it was connected");
  ASSERT_EQ(one.partitions.size(), 1u);
  EXPECT_EQ(one.partitions[0].range, (Range{2048 * 512, 1024 * 512}));
  EXPECT_EQ(words(one.partitions[0].uses), (Words{"mounted on /srv/sea birds"}));
  EXPECT_EQ(one.partitions[0].uses.at(0).release, "umount '/srv/sea birds'");
  EXPECT_TRUE(one.in_use());
  EXPECT_FALSE(one.computers_own);
}

TEST_F(LinuxDisks, TheComputersOwnIsKnownThroughAnArrayAndALogicalVolume) {
  const fs::path disk = device("sda", "pci0000:00/ata1/host0/target0:0:0/0:0:0:0", "8:0", 4096);
  put(disk / "sda2/partition", "2");
  put(disk / "sda2/dev", "8:2");
  const fs::path array = fs::path(folder_ / "sys/devices/virtual/block/md0");
  const fs::path root = fs::path(folder_ / "sys/devices/virtual/block/dm-0");
  put(array / "dev", "9:0");
  put(root / "dev", "253:0");
  put(root / "dm/name", "tower-root");
  put(root / "dm/uuid", "LVM-abc");
  fs::create_directories(disk / "sda2/holders");
  fs::create_directories(array / "holders");
  fs::create_directory_symlink(array, disk / "sda2/holders/md0");
  fs::create_directory_symlink(root, array / "holders/dm-0");
  mounts("22 1 253:0 / / rw - ext4 /dev/mapper/tower-root rw");

  const auto found = disks();
  ASSERT_EQ(found.size(), 1u);
  EXPECT_TRUE(found[0].computers_own);
  EXPECT_EQ(words(found[0].partitions.at(0).uses),
            (Words{"in array md0", "in the logical volume tower-root", "mounted on /"}));
  EXPECT_EQ(found[0].partitions[0].uses.at(0).release, "mdadm --stop /dev/md0");
}

TEST_F(LinuxDisks, WhatIsNoDiskIsLeftOut) {
  for (const char* name : {"dm-0", "md127", "zram0", "ram0"})
    device(name, "virtual", "253:7", 4096);
  device("loop3", "virtual", "7:3", 0);
  device("sr0", "pci0000:00/ata2/host1/target1:0:0/1:0:0:0", "11:0", 0);
  EXPECT_TRUE(disks().empty());
}

TEST_F(LinuxDisks, TheDeviceManagersWordComesFirst) {
  const fs::path disk = device("nvme0n1", "pci0000:00/0000:00:1d.0/nvme/nvme0", "259:0", 4096);
  put(disk / "device/model", "Kittiwake X");
  put(disk / "wwid", "eui.0025385b71b0a1c2");
  put(disk / "queue/rotational", "0");
  put(folder_ / "udev/b259:0",
      "N:nvme0n1\nE:ID_SERIAL_SHORT=K-77 \nE:ID_PATH=pci-0000:00:1d.0-nvme-1\nE:ID_WWN=eui.1");
  const auto found = disks();
  ASSERT_EQ(found.size(), 1u);
  EXPECT_EQ(found[0].serial, "K-77");
  EXPECT_EQ(found[0].port, "pci-0000:00:1d.0-nvme-1");
  EXPECT_EQ(found[0].wwn, "eui.1");
  EXPECT_EQ(found[0].bus, "nvme");
  EXPECT_EQ(found[0].rotates, false);
}

TEST_F(LinuxDisks, FiguresThatCannotBeAreNotTaken) {
  const fs::path disk = device("sdb", "pci0000:00/ata3/host2/target2:0:0/2:0:0:0", "8:16", 4096);
  put(disk / "queue/logical_block_size", "7");
  put(disk / "queue/physical_block_size", "99999999999999999999999999");
  put(disk / "device/hwmon/hwmon0/temp1_input", "-40000");
  put(disk / "device/wwid", "naa.5000c500a1b2c3d4");
  mounts("broken line\n\\x 0:44");
  const auto found = disks();
  ASSERT_EQ(found.size(), 1u);
  EXPECT_EQ(found[0].sector_bytes, 512u);
  EXPECT_EQ(found[0].physical_sector_bytes, 512u);
  EXPECT_FALSE(found[0].temperature_celsius);
  EXPECT_EQ(found[0].wwn, "0x5000c500a1b2c3d4");
  EXPECT_FALSE(found[0].in_use());
}

}  // namespace
}  // namespace lantern
