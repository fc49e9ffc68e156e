#include "lantern/host/simulation.h"

#include <gtest/gtest.h>

#include <fstream>

#include "kit/bytes.h"
#include "lantern/context.h"
#include "lantern/error.h"

namespace lantern {
namespace {

class SimulatedHostTest : public testing::Test {
 protected:
  SimulatedHostTest() { folder_.file("card.img", kit::pattern(8192, 3)); }

  std::shared_ptr<const Host> host(const std::string& disks) {
    std::ofstream(folder_ / "bench.json") << R"({"simulated_disks":[)" << disks << "]}";
    return simulated_host(folder_ / "bench.json", this_host());
  }
  std::string refusal(const std::string& disks) {
    try {
      host(disks);
    } catch (const Error& error) {
      EXPECT_EQ(error.code(), ErrorCode::usage);
      return error.line();
    }
    return "";
  }

  kit::Folder folder_;
  Context context_;
};

TEST_F(SimulatedHostTest, ADiskIsWhatTheFileSays) {
  const auto bench = host(
      R"({"image":"card.img","model":"Razorbill 8","serial":"RZ-1","bus":"usb","sector_bytes":4096,
          "removable":true,"computers_own":false,"temperature_celsius":44,
          "rotations_per_minute":5400,"used_by":["in array md0"],
          "mounted":[{"partition":1,"on":"/srv"}]})");
  const auto disks = bench->disks();
  ASSERT_EQ(disks.size(), 1u);
  EXPECT_EQ(disks[0].model, "Razorbill 8");
  EXPECT_EQ(disks[0].size_bytes, 8192u);
  EXPECT_EQ(disks[0].physical_sector_bytes, 4096u);
  EXPECT_EQ(disks[0].rotations_per_minute, 5400u);
  EXPECT_TRUE(disks[0].in_use());
  EXPECT_EQ(bench->uses_of(folder_ / "card.img"),
            (std::vector<std::string>{"in array md0", "mounted on /srv"}));
  const SourcePtr bytes = bench->open_disk(disks[0], context_);
  EXPECT_EQ(bytes->logical_sector_size(), 4096u);
  EXPECT_EQ(kit::read_all(*bytes), kit::pattern(8192, 3));
}

TEST_F(SimulatedHostTest, ItFailsAsTheFileSays) {
  const auto bench = host(
      R"({"image":"card.img","unreadable":[[512,512]],"flaky":[{"range":[1024,512],"failures":1}],
          "wrong":[{"range":[2048,512],"gives":4096}],"unplugged_after_reads":3})");
  const SourcePtr bytes = bench->open_disk(bench->disks().at(0), context_);
  const kit::Bytes plain = kit::pattern(8192, 3);
  kit::Bytes read(4096);
  EXPECT_EQ(bytes->read(0, read).unreadable, (std::vector<Range>{{512, 512}, {1024, 512}}));
  EXPECT_TRUE(std::equal(read.begin() + 2048, read.begin() + 2560, plain.begin() + 4096));
  EXPECT_EQ(bytes->read(0, read).unreadable, (std::vector<Range>{{512, 512}}));
  bytes->read(0, read);
  EXPECT_THROW(bytes->read(0, read), Error);
}

TEST_F(SimulatedHostTest, WhatItDoesNotKnowIsRefusedByName) {
  EXPECT_NE(refusal(R"({"image":"card.img","sereal":"x"})").find("unknown key \"sereal\""),
            std::string::npos);
  EXPECT_NE(refusal(R"({"image":"card.img"},{"image":"card.img","slow":[{"millis":3}]})")
                .find("disk 2, slow has the unknown key"),
            std::string::npos);
  EXPECT_NE(
      refusal(R"({"image":"card.img","unreadable":[[1,18446744073709551615]]})").find("cannot be"),
      std::string::npos);
  EXPECT_NE(refusal(R"({"image":"card.img","sector_bytes":7})").find("at least 512"),
            std::string::npos);
  EXPECT_NE(refusal(R"({"image":"card.img","removable":"yes"})").find("true or false"),
            std::string::npos);
  EXPECT_NE(refusal(R"({"model":"Skua"})").find("disk 1"), std::string::npos);
  EXPECT_NE(refusal(R"({"image":5})").find("disk 1"), std::string::npos);
  EXPECT_NE(refusal("[").find("not a complete JSON"), std::string::npos);
  EXPECT_THROW(host(R"({"image":"missing.img"})"), Error);
  EXPECT_THROW(simulated_host(folder_ / "missing.json", this_host()), Error);
}

}  // namespace
}  // namespace lantern
