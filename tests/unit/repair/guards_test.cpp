// Disks that must not be written to: who says so, and that nothing is.
#include <gtest/gtest.h>

#include <fcntl.h>
#include <unistd.h>

#include <filesystem>

#include "kit/disk_builder.h"
#include "kit/fat_builder.h"
#include "kit/ntfs_builder.h"
#include "lantern/error.h"
#include "lantern/imaging.h"
#include "lantern/repair.h"

namespace lantern::repair {
namespace {

class StandIn final : public Host {
 public:
  std::vector<std::string> uses;
  std::vector<Holder> held;
  std::optional<std::string> lock;
  std::string device;  // this path is one, with the serial number GN-1

  std::optional<HostFile> file(const std::string& path) const override {
    return HostFile{path == device, 8, 0, false};
  }
  std::vector<std::uint64_t> stack_below(std::uint64_t number) const override { return {number}; }
  std::optional<std::string> loop_file(std::uint64_t) const override { return std::nullopt; }
  std::vector<Holder> holders(const std::string&) const override { return held; }
  std::optional<std::string> lock_on(const std::string&) const override { return lock; }
  std::vector<HostDisk> disks() const override {
    HostDisk disk;
    disk.device = device;
    disk.serial = "GN-1";
    return {disk};
  }
  std::vector<std::string> uses_of(const std::string&) const override { return uses; }
};

class Guarded : public ::testing::Test {
 protected:
  Guarded() {
    kit::FatBuilder fat(kit::FatBuilder::Width::fat16);
    fat.file(0, "log.txt", kit::bytes_of("two eggs\n"), {2});
    kit::Bytes disk(2048 * 512 + fat.bytes().size());
    kit::put_mbr(disk, 0, {{0x0E, 2048, static_cast<std::uint32_t>(fat.bytes().size() / 512)}});
    kit::put_bytes(disk, 2048 * 512, fat.bytes());
    path_ = folder_.file("station.img", disk);
    bytes_ = disk;
  }

  // What it says when a byte is to be written; empty when it is.
  std::string refusal(const std::shared_ptr<const Host>& host, std::uint64_t at = 440,
                      bool override_suspended = false, bool override_lock_file = false) {
    const RepairPlan plan =
        plan_bytes({path_, {}}, at, kit::bytes_of("lamp"), Session({}, context_));
    ApplyOptions how;
    how.journal = folder_ / "undo";
    how.host = host;
    how.override_suspended = override_suspended;
    how.override_lock_file = override_lock_file;
    try {
      apply_repair(plan, {1}, Session({}, context_), how);
    } catch (const Error& error) {
      EXPECT_EQ(error.code(), ErrorCode::refused) << error.what();
      EXPECT_EQ(kit::read_file(path_), bytes_);
      EXPECT_FALSE(std::filesystem::exists(how.journal));
      return error.what();
    }
    undo_repair(how.journal, how, context_);
    std::filesystem::remove(how.journal);
    return {};
  }

  kit::Folder folder_;
  Context context_;
  std::string path_;
  kit::Bytes bytes_;
};

TEST_F(Guarded, AFreeDiskIsWritten) {
  EXPECT_EQ(refusal(std::make_shared<StandIn>()), "");
}

TEST_F(Guarded, WhoUsesItIsSaid) {
  const auto host = std::make_shared<StandIn>();
  host->uses = {"it is mounted on /srv/keeper"};
  EXPECT_NE(refusal(host).find("mounted on /srv/keeper"), std::string::npos);
  host->uses.clear();
  host->held = {{812, "lamp-hypervisor", true}};
  EXPECT_NE(refusal(host).find("lamp-hypervisor (process 812)"), std::string::npos);
  host->held = {{813, "reader", false}};
  EXPECT_EQ(refusal(host), "");
  host->held.clear();
  host->lock = "process 99";
  EXPECT_NE(refusal(host).find("locked by process 99"), std::string::npos);
}

TEST_F(Guarded, ALockFileOfAnotherHostStopsItAndSaysWhoAndWhen) {
  folder_.file("station.img.lck", kit::bytes_of("bench-2 process 4711"));
  folder_.file("other.img.lck", kit::bytes_of("bench-3"));
  const auto host = std::make_shared<StandIn>();
  const std::string said = refusal(host);
  EXPECT_NE(said.find("station.img.lck (by \"bench-2\", 0 minutes old)"), std::string::npos)
      << said;
  EXPECT_EQ(refusal(host, 440, false, true), "");
  std::filesystem::remove(folder_ / "station.img.lck");
  EXPECT_EQ(refusal(host), "") << "the lock of another disk is not its own";
}

TEST_F(Guarded, ADeviceIsWrittenToOnlyUnderANameThatLasts) {
  const auto host = std::make_shared<StandIn>();
  host->device = path_;
  const std::string said = refusal(host);
  EXPECT_NE(said.find("under a name that another disk may have tomorrow"), std::string::npos);
  EXPECT_NE(said.find("disk:GN-1"), std::string::npos);
}

TEST_F(Guarded, ALockOfAnotherProgramStopsIt) {
  const int held = ::open(path_.c_str(), O_RDWR | O_CLOEXEC);
  struct flock range {};
  range.l_type = F_WRLCK;
  range.l_start = 100;
  range.l_len = 1;
  ASSERT_EQ(::fcntl(held, F_OFD_SETLK, &range), 0);
  EXPECT_NE(refusal(this_host()), "");
  ::close(held);
  EXPECT_EQ(refusal(this_host()), "");
}

TEST_F(Guarded, ASuspendedMachineNeedsAnExplicitWord) {
  folder_.file("station.vmx",
               kit::bytes_of("displayName = \"Station\"\nscsi0:0.present = \"TRUE\"\n"
                             "scsi0:0.fileName = \"station.img\"\n"));
  folder_.file("station.vmss", kit::bytes_of("saved"));
  const auto host = std::make_shared<StandIn>();
  EXPECT_NE(refusal(host).find("suspended"), std::string::npos);
  EXPECT_EQ(refusal(host, 440, true), "");
}

TEST_F(Guarded, AParentOfAChildIsLeftAlone) {
  ImageOptions options = child_of({path_, {}}, "raw", folder_ / "child.qcow2");
  write_image(open_file_source(path_, context_), folder_ / "child.qcow2", options, context_);
  EXPECT_NE(refusal(std::make_shared<StandIn>()).find("child.qcow2 is based on it"),
            std::string::npos);
}

TEST_F(Guarded, AHibernatedSystemsVolumeIsLeftAlone) {
  kit::NtfsBuilder volume;
  volume.small(30, kit::NtfsBuilder::kRoot, "hiberfil.sys",
               kit::bytes_of("hibr and what was open"));
  const kit::Bytes ntfs = volume.bytes();
  bytes_.assign(2048 * 512 + ntfs.size(), std::byte{0});
  kit::put_mbr(bytes_, 0, {{0x07, 2048, static_cast<std::uint32_t>(ntfs.size() / 512)}});
  kit::put_bytes(bytes_, 2048 * 512, ntfs);
  folder_.file("station.img", bytes_);
  const auto host = std::make_shared<StandIn>();
  EXPECT_NE(refusal(host, 2048 * 512 + 90'000).find("hibernated"), std::string::npos);
  EXPECT_EQ(refusal(host, 440), "");  // the table is not the sleeping system's
}

TEST_F(Guarded, AJournalIsNeverTheDiskItself) {
  const RepairPlan plan =
      plan_bytes({path_, {}}, 440, kit::bytes_of("lamp"), Session({}, context_));
  ApplyOptions how;
  how.journal = path_;
  EXPECT_THROW(apply_repair(plan, {1}, Session({}, context_), how), Error);
  EXPECT_EQ(kit::read_file(path_), bytes_);
}

}  // namespace
}  // namespace lantern::repair
