#include <gtest/gtest.h>

#include <unistd.h>

#include <cstdio>
#include <map>

#include "kit/bytes.h"
#include "lantern/host.h"

namespace lantern {
namespace {

// Files by path, device stacks by number, images behind loop devices.
class StandIn final : public Host {
 public:
  std::map<std::string, HostFile> files;
  std::map<std::uint64_t, std::vector<std::uint64_t>> stacks;
  std::map<std::uint64_t, std::string> loops;

  std::optional<HostFile> file(const std::string& path) const override {
    const auto found = files.find(path);
    return found == files.end() ? std::nullopt : std::optional(found->second);
  }
  std::vector<std::uint64_t> stack_below(std::uint64_t device) const override {
    const auto found = stacks.find(device);
    return found == stacks.end() ? std::vector{device} : found->second;
  }
  std::optional<std::string> loop_file(std::uint64_t device) const override {
    const auto found = loops.find(device);
    return found == loops.end() ? std::nullopt : std::optional(found->second);
  }
  std::optional<std::string> lock_on(const std::string&) const override { return {}; }
  std::vector<Holder> holders(const std::string&) const override { return {}; }
};

constexpr std::uint64_t kDisk = 8, kPartition = 9, kMapped = 250, kLoop = 7, kOther = 99;

StandIn bench() {
  StandIn host;
  host.files["/dev/disk"] = {true, kDisk, 0, false};
  host.files["/dev/disk1"] = {true, kPartition, 0, false};
  host.files["/images/station.img"] = {false, kPartition, 44, false};
  host.files["/images"] = {false, kPartition, 2, true};
  host.files["/elsewhere"] = {false, kOther, 2, true};
  host.files["/mapped"] = {false, kMapped, 2, true};
  host.files["/looped"] = {false, kLoop, 2, true};
  host.stacks[kPartition] = {kPartition, kDisk};
  host.stacks[kMapped] = {kMapped, kPartition, kDisk};
  host.loops[kLoop] = "/images/station.img";
  return host;
}

TEST(Destination, OnTheSourceDeviceIsUnsafeHoweverDeep) {
  const StandIn host = bench();
  EXPECT_NE(why_destination_is_unsafe(host, "/dev/disk", "/images/out/deep"), "");
  EXPECT_NE(why_destination_is_unsafe(host, "/dev/disk", "/mapped/out"), "");
  EXPECT_NE(why_destination_is_unsafe(host, "/dev/disk1", "/mapped/out"), "");
  EXPECT_EQ(why_destination_is_unsafe(host, "/dev/disk", "/elsewhere/out"), "");
}

TEST(Destination, InAMountOfTheImageIsUnsafeAndBesideItIsNot) {
  const StandIn host = bench();
  EXPECT_NE(why_destination_is_unsafe(host, "/images/station.img", "/looped/out"), "");
  EXPECT_NE(why_destination_is_unsafe(host, "/images/station.img", "/images/station.img"), "");
  EXPECT_EQ(why_destination_is_unsafe(host, "/images/station.img", "/images/out"), "");
}

TEST(Destination, AnImageOnTheSourceDeviceThatIsLoopedIsUnsafe) {
  const StandIn host = bench();
  EXPECT_NE(why_destination_is_unsafe(host, "/dev/disk", "/looped/out"), "");
  EXPECT_EQ(why_destination_is_unsafe(host, "/dev/disk", "/elsewhere/out"), "");
}

TEST(Destination, ALoopDeviceAsTheSourceLeavesTheDiskUnderItsImageFree) {
  StandIn host = bench();
  host.files["/dev/loop"] = {true, kLoop, 0, false};
  EXPECT_NE(why_destination_is_unsafe(host, "/dev/loop", "/looped/out"), "");
  EXPECT_EQ(why_destination_is_unsafe(host, "/dev/loop", "/images/out"), "");
}

TEST(LinuxHost, SeesFilesAndWhoHoldsThem) {
  const kit::Folder folder;
  const std::string path = folder.file("card.img", kit::pattern(10, 1));
  const auto host = this_host();
  EXPECT_FALSE(host->file(path)->folder);
  EXPECT_TRUE(host->file(folder.path())->folder);
  EXPECT_FALSE(host->file(folder / "absent"));
  EXPECT_EQ(host->stack_below(host->file(path)->device).at(0), host->file(path)->device);
  EXPECT_TRUE(host->holders(path).empty());
  // Another process that has it open for writing.
  FILE* child = popen(("exec 9>>'" + path + "'; echo ready; read line").c_str(), "we");
  ASSERT_NE(child, nullptr);
  std::vector<Holder> holders;
  for (int i = 0; i < 200 && holders.empty(); ++i) {
    holders = host->holders(path);
    if (holders.empty()) usleep(10'000);
  }
  fputs("done\n", child);
  pclose(child);
  ASSERT_EQ(holders.size(), 1u);
  EXPECT_TRUE(holders[0].writing);
  EXPECT_GT(holders[0].process, 1);
}

}  // namespace
}  // namespace lantern
