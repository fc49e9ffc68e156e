// sector and compare, in process, on small disks of which one has a byte wrong.
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "cli/ran.h"
#include "kit/disk_builder.h"
#include "kit/ext_builder.h"

namespace lantern::cli {
namespace {

using nlohmann::json;

class SectorAndCompare : public ::testing::Test {
 protected:
  SectorAndCompare() {
    kit::ExtBuilder volume;
    volume.file(13, 50, kit::bytes_of("two eggs\n"));
    volume.folder(2, 2, kit::ExtBuilder::kRootBlock, {{"log.txt", 13}});
    const kit::Bytes ext = volume.bytes();
    kit::Bytes disk(2048 * 512 + ext.size());
    kit::put_bytes(disk, 0, kit::pattern(400, 1));
    kit::put_mbr(disk, 0, {{0x83, 2048, static_cast<std::uint32_t>(ext.size() / 512), true}});
    kit::put_bytes(disk, 2048 * 512, ext);
    healthy_ = folder_.file("healthy.img", disk);
    kit::put(disk, 510, 0, 1);
    kit::put(disk, 440, 0x99, 1);
    broken_ = folder_.file("broken.img", disk);
  }

  kit::Folder folder_;
  std::string healthy_, broken_;
};

TEST_F(SectorAndCompare, TheWrongByteIsTheFirstThingSaid) {
  const Ran ran = lantern({"compare", broken_, healthy_, "--json"});
  EXPECT_EQ(ran.code, 1);
  const json document = json::parse(ran.out);
  // The volumes behind the table that cannot be read are looked at where the other has them.
  ASSERT_EQ(document["rows"].size(), 1u);
  const json& first = document["rows"][0];
  EXPECT_EQ(first["structure"], "mbr");
  EXPECT_EQ(first["field"], "signature");
  EXPECT_EQ(first["offset_bytes"], 510);
  EXPECT_EQ(first["a_bytes"], "00");
  EXPECT_EQ(first["b_bytes"], "55");
  EXPECT_TRUE(first["b_expected"].is_null());
  EXPECT_EQ(document["identity"][0]["field"], "disk_id");
  const Ran told = lantern({"compare", broken_, healthy_});
  EXPECT_LT(told.out.find("signature"), told.out.find("identity: mbr disk_id"));
  EXPECT_EQ(lantern({"compare", healthy_, healthy_}).code, 0);
}

TEST_F(SectorAndCompare, RangesAreComparedAsTheyLie) {
  const json rows = json::parse(
      lantern({"compare", broken_, healthy_, "--range", "0:512", "--json"}).out)["rows"];
  ASSERT_EQ(rows.size(), 2u);
  EXPECT_EQ(rows[0]["offset_bytes"], 440);
  EXPECT_EQ(rows[1]["offset_bytes"], 510);
  EXPECT_EQ(lantern({"compare", broken_, healthy_, "--range", "512"}).code, 2);
}

TEST_F(SectorAndCompare, ASectorIsShownFieldByField) {
  const Ran ran = lantern({"sector", broken_, "mbr"});
  EXPECT_NE(ran.out.find("!   510"), std::string::npos);
  EXPECT_NE(ran.out.find("should be 0xaa55"), std::string::npos);
  const json document = json::parse(lantern({"sector", healthy_, "superblock:1", "--json"}).out);
  EXPECT_EQ(document["offset_bytes"], 1024);
  for (const json& field : document["fields"])
    EXPECT_TRUE(field["expected"].is_null()) << field["name"];
  EXPECT_NE(lantern({"sector", healthy_, "7"}).out.find("sector 7, 512 bytes"), std::string::npos);
}

TEST_F(SectorAndCompare, WhatIsNoStructureIsAnsweredInOneLine) {
  for (const char* what : {"boot:9", "mft:0", "rubbish", "999999999"}) {
    const Ran ran = lantern({"sector", healthy_, what});
    EXPECT_NE(ran.code, 0) << what;
    EXPECT_EQ(std::count(ran.err.begin(), ran.err.end(), '\n'), 1) << ran.err;
  }
  EXPECT_EQ(lantern({"sector", healthy_}).code, 2);
}

}  // namespace
}  // namespace lantern::cli
