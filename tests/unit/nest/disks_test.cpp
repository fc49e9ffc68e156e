#include "lantern/nest/disks.h"

#include <gtest/gtest.h>

#include "kit/disk_builder.h"
#include "kit/fat_builder.h"
#include "lantern/error.h"
#include "lantern/nest/session.h"
#include "lantern/physical/inventory.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

// A computer with these disks and no other trait.
class Bench final : public Host {
 public:
  std::vector<HostDisk> list;
  kit::Bytes bytes;

  std::optional<HostFile> file(const std::string&) const override { return std::nullopt; }
  std::vector<std::uint64_t> stack_below(std::uint64_t device) const override { return {device}; }
  std::optional<std::string> loop_file(std::uint64_t) const override { return std::nullopt; }
  std::vector<Holder> holders(const std::string&) const override { return {}; }
  std::optional<std::string> lock_on(const std::string&) const override { return std::nullopt; }
  std::vector<HostDisk> disks() const override { return list; }
  SourcePtr open_disk(const HostDisk& disk, const Context&) const override {
    if (disk.health == "dead")
      throw Error(ErrorCode::cannot_open, disk.device, std::nullopt, "Input/output error", "");
    return make_memory_source(bytes);
  }
};

class DisksTest : public testing::Test {
 protected:
  DisksTest() {
    kit::FatBuilder fat(kit::FatBuilder::Width::fat16);
    fat.file(0, "log.txt", kit::bytes_of("two eggs"), {2});
    bench_->bytes.resize(2048 * 512 + fat.bytes().size());
    kit::put_mbr(bench_->bytes, 0,
                 {{0x0E, 2048, static_cast<std::uint32_t>(fat.bytes().size() / 512)}});
    kit::put(bench_->bytes, 440, 0x5EAB12D5, 4);
    kit::put_bytes(bench_->bytes, 2048 * 512, fat.bytes());
  }
  HostDisk& add(const std::string& serial, const std::string& model = "Gannet 4000") {
    HostDisk disk;
    disk.serial = serial;
    disk.model = model;
    disk.device = "/dev/sd" + std::string(1, static_cast<char>('a' + bench_->list.size()));
    disk.size_bytes = bench_->bytes.size();
    bench_->list.push_back(disk);
    return bench_->list.back();
  }
  std::string refusal(const std::string& name) {
    try {
      find_disk(*bench_, name, context_);
    } catch (const Error& error) {
      return error.line();
    }
    return "";
  }

  std::shared_ptr<Bench> bench_ = std::make_shared<Bench>();
  Context context_;
};

TEST_F(DisksTest, ASerialNumberThatOneDiskHasIsItsName) {
  add("GN-1");
  add("GN-2");
  const auto named = name_disks(*bench_, context_);
  EXPECT_EQ(named.at(0).name, "GN-1");
  EXPECT_EQ(named.at(0).named_by, "its serial number");
  EXPECT_EQ(find_disk(*bench_, "gn-2", context_).facts.device, "/dev/sdb");
}

TEST_F(DisksTest, ASerialNumberThatABridgeRepeatsIsNoName) {
  add("0123456789").port = "usb-1";
  add("0123456789").port = "usb-2";
  add("0123456789").wwn = "0x5000c500";
  const auto named = name_disks(*bench_, context_);
  EXPECT_EQ(named.at(0).name, "usb-1+5eab12d5");
  EXPECT_EQ(named.at(1).name, "usb-2+5eab12d5");
  EXPECT_EQ(named.at(2).name, "0x5000c500");
  EXPECT_NE(named.at(0).named_by.find("another disk has its serial number"), std::string::npos);
  EXPECT_EQ(find_disk(*bench_, "usb-2+5eab12d5", context_).facts.device, "/dev/sdb");
  EXPECT_NE(refusal("0123456789").find("3 disks answer to that"), std::string::npos);
}

TEST_F(DisksTest, TwoThatNothingTellsApartAreSaidToBe) {
  add("");
  add("");
  EXPECT_NE(name_disks(*bench_, context_).at(1).named_by.find("another disk here has, too"),
            std::string::npos);
}

TEST_F(DisksTest, APartOfTheModelWillDoWhenOneDiskHasIt) {
  add("GN-1");
  add("SK-1", "Skua 320");
  EXPECT_EQ(find_disk(*bench_, "skua", context_).name, "SK-1");
  EXPECT_EQ(refusal("GN"), "disk:GN: no disk is called that");
  EXPECT_EQ(refusal("0"), "disk:0: no disk is called that");
  EXPECT_EQ(refusal("/dev/sda"), "disk:/dev/sda: no disk is called that");
  add("GN-3");
  EXPECT_NE(refusal("gannet").find("disk:GN-1 (Gannet 4000, "), std::string::npos);
}

TEST_F(DisksTest, AnAddressBeginsWithTheNameAndGoesOnUnderTheWholeOfIt) {
  add("GN-1");
  OpenOptions options;
  options.host = bench_;
  const Session session(options, context_);
  const Target target = session.open(Address::parse("disk:gannet::1::/log.txt"));
  EXPECT_EQ(target.volume->address.print(), "disk:GN-1::1");
  EXPECT_EQ(target.entry->size_bytes, 8u);
  EXPECT_EQ(bottom_sources(target), (std::vector<std::string>{"/dev/sda"}));
  EXPECT_THROW(Session({}, context_).open(Address::parse("disk:GN-1")), Error);
}

TEST_F(DisksTest, TheInventoryLooksAtEachAndKeepsTheDead) {
  add("GN-1").partitions = {{1, {}, "", {{"mounted on /srv", {}}}}};
  add("GN-2").health = "dead";
  OpenOptions options;
  options.host = bench_;
  const auto list = take_inventory(Session(options, context_));
  ASSERT_EQ(list.size(), 2u);
  EXPECT_EQ(list[0].table, "mbr");
  EXPECT_EQ(list[0].parts.at(0).address, "disk:GN-1::1");
  EXPECT_EQ(list[0].parts.at(0).uses.at(0).words, "mounted on /srv");
  EXPECT_NE(list[1].unread.find("Input/output error"), std::string::npos);
  EXPECT_THROW(take_inventory(Session({}, context_)), Error);
}

}  // namespace
}  // namespace lantern
