// find, show and the forms of list, in process, on an ext volume.
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "cli/ran.h"
#include "kit/ext_builder.h"

namespace lantern::cli {
namespace {

using nlohmann::json;

class FindAndShow : public ::testing::Test {
 protected:
  FindAndShow() {
    kit::ExtBuilder volume;
    kit::Bytes picture = kit::pattern(3000, 1);
    kit::put(picture, 0, 0xFFD8FF, 3);
    std::swap(picture[0], picture[2]);
    volume.file(12, 40, picture);
    volume.file(13, 50, kit::bytes_of("two eggs\nand a third\n"));
    volume.file(14, 60, kit::pattern(3000, 3));
    volume.folder(11, 2, 31, {{"log.txt", 13}, {"gannet.dat", 12}});
    volume.folder(2, 2, kit::ExtBuilder::kRootBlock, {{"Keeper", 11}, {"tide.bin", 14}});
    volume.record(15, 0xA1FF, 7, 0, kit::bytes_of("log.txt"), 115);
    disk_ = folder_.file("station.img", volume.bytes());
  }

  std::vector<std::string> found(std::vector<std::string> options) const {
    std::vector<std::string> arguments = {"find", disk_, "--json"};
    arguments.insert(arguments.end(), options.begin(), options.end());
    std::vector<std::string> paths;
    const json document = json::parse(lantern(arguments).out);
    for (const auto& row : document["entries"]) paths.push_back(row["path"]);
    return paths;
  }

  kit::Folder folder_;
  std::string disk_;
};

using Paths = std::vector<std::string>;

TEST_F(FindAndShow, FindsByNameExpressionSizeDateAndKind) {
  EXPECT_EQ(found({"--match", "*.TXT"}), Paths{"/Keeper/log.txt"});
  EXPECT_EQ(found({"--regex", "/keeper/[a-m]"}), (Paths{"/Keeper/gannet.dat", "/Keeper/log.txt"}));
  EXPECT_EQ(found({"--larger", "1K", "--smaller", "3000"}),
            (Paths{"/Keeper/gannet.dat", "/tide.bin"}));
  EXPECT_EQ(found({"--kind", "jpg"}), Paths{"/Keeper/gannet.dat"});
  EXPECT_EQ(found({"--kind", "JPEG"}), Paths{"/Keeper/gannet.dat"});
  EXPECT_EQ(found({"--kind", "picture"}), Paths{"/Keeper/gannet.dat"});
  EXPECT_EQ(found({"--kind", "document"}), Paths{"/Keeper/log.txt"});
  EXPECT_EQ(found({"--kind", "folder"}), Paths{"/Keeper"});
  EXPECT_EQ(found({"--after", "2026-03-15"}), Paths{});
  EXPECT_EQ(found({"--after", "2026-03-14", "--before", "2026-03-15"}).size(), 4u);
  EXPECT_EQ(found({"--deleted-only"}), Paths{"/inode-15"});
}

TEST_F(FindAndShow, WhatIsAskedWronglyGetsOneLine) {
  for (const std::vector<std::string>& wrong :
       std::vector<std::vector<std::string>>{{"find", disk_, "--regex", "("},
                                             {"find", disk_, "--kind", "gannet"},
                                             {"find", disk_, "--larger", "much"},
                                             {"find", disk_, "--after", "yesterday"},
                                             {"find", disk_, "--least", "200"},
                                             {"show", disk_},
                                             {"show", disk_ + "::1::/Keeper", "--raw"}}) {
    const Ran ran = lantern(wrong);
    EXPECT_EQ(ran.code, kUsage) << wrong.at(2);
    EXPECT_EQ(std::count(ran.err.begin(), ran.err.end(), '\n'), 1) << ran.err;
  }
}

TEST_F(FindAndShow, ShowTellsFactsPlacesAndTheStart) {
  const Ran ran = lantern({"show", disk_ + "::1::/Keeper/log.txt"});
  EXPECT_EQ(ran.code, kDone);
  for (const char* part : {"id          @13-113\n", "size        21 bytes\n", "rw-r--r-- (0644)",
                           "a:51200", "  two eggs\n  and a third\n"})
    EXPECT_NE(ran.out.find(part), std::string::npos) << part << " is not in\n" << ran.out;
  const json shown = json::parse(lantern({"show", disk_ + "::1::/tide.bin", "--json"}).out);
  EXPECT_EQ(shown["extents"][0]["length_bytes"], 3000);
  EXPECT_EQ(shown["extents"][0]["places"][0]["offset_bytes"], 60 * 1024);
  EXPECT_EQ(shown["entry"]["mode"], "0644");
  EXPECT_EQ(lantern({"show", disk_ + "::1::/Keeper/log.txt", "--raw"}).out,
            "two eggs\nand a third\n");
  EXPECT_NE(lantern({"show", disk_ + "::1::@15-115"}).out.find("names       log.txt\n"),
            std::string::npos);
}

TEST_F(FindAndShow, ListHasItsForms) {
  const std::string tree = lantern({"list", disk_, "--tree"}).out;
  EXPECT_NE(tree.find("  Keeper/\n"), std::string::npos) << tree;
  EXPECT_NE(tree.find("    log.txt\n"), std::string::npos) << tree;
  const std::string sorted = lantern({"list", disk_, "--sort", "path"}).out;
  EXPECT_LT(sorted.find("/Keeper/gannet.dat"), sorted.find("/Keeper/log.txt"));
  EXPECT_NE(lantern({"list", disk_, "--long"}).out.find("rw-r--r--     1         0:0"),
            std::string::npos);
}

}  // namespace
}  // namespace lantern::cli
