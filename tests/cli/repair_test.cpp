// repair, undo and sweep, in process.
#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>

#include "cli/ran.h"
#include "kit/disk_builder.h"
#include "kit/ext_builder.h"

namespace lantern::cli {
namespace {

using nlohmann::json;

class RepairCommand : public ::testing::Test {
 protected:
  RepairCommand() {
    kit::ExtBuilder volume;
    volume.file(13, 50, kit::bytes_of("two eggs\n"));
    volume.folder(2, 2, kit::ExtBuilder::kRootBlock, {{"log.txt", 13}});
    const kit::Bytes ext = volume.bytes();
    disk_.resize(2048 * 512 + ext.size());
    kit::put_mbr(disk_, 0, {{0x83, 2048, static_cast<std::uint32_t>(ext.size() / 512), true}});
    kit::put_bytes(disk_, 2048 * 512, ext);
    healthy_ = folder_.file("healthy.img", disk_);
    kit::put(disk_, 510, 0, 2);
    path_ = folder_.file("station.img", disk_);
  }

  kit::Folder folder_;
  kit::Bytes disk_;
  std::string healthy_, path_;
  std::string journal_ = folder_ / "station.undo";
};

TEST_F(RepairCommand, PlansWithoutAWriteAndSaysWhatNext) {
  const Ran ran = lantern({"repair", path_});
  EXPECT_EQ(ran.code, 1);
  EXPECT_NE(ran.out.find("writes the signature 55 AA"), std::string::npos);
  EXPECT_NE(ran.out.find("now   00 00\n         then  55 aa"), std::string::npos);
  EXPECT_NE(ran.out.find("Nothing was written"), std::string::npos);
  EXPECT_EQ(kit::read_file(path_), disk_);
  EXPECT_EQ(lantern({"repair", healthy_}).out, "Nothing to repair was found.\n");
  EXPECT_EQ(lantern({"repair", healthy_}).code, 0);
}

TEST_F(RepairCommand, AppliesTellsTheDifferenceAndIsUndone) {
  const Ran ran = lantern({"repair", path_, "--apply", "--journal", journal_});
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_NE(ran.out.find("Take it back with:  lantern undo " + journal_), std::string::npos);
  EXPECT_EQ(kit::read_file(path_), kit::read_file(healthy_));
  EXPECT_EQ(lantern({"repair", path_, "--apply", "--journal", journal_}).out,
            "Nothing to repair was found.\n");
  const Ran undone = lantern({"undo", journal_});
  EXPECT_EQ(undone.code, 0);
  EXPECT_NE(undone.out.find("as it was before the changes again: 2 bytes written"),
            std::string::npos);
  EXPECT_EQ(kit::read_file(path_), disk_);
  EXPECT_NE(lantern({"undo", journal_}).out.find("already"), std::string::npos);
  const json again = json::parse(lantern({"undo", journal_, "--redo", "--json"}).out);
  EXPECT_EQ(again["was"], "undone");
  EXPECT_EQ(again["is"], "applied");
  EXPECT_EQ(kit::read_file(path_), kit::read_file(healthy_));
}

TEST_F(RepairCommand, AnEarlierJournalIsNotWrittenOver) {
  folder_.file("station.undo", kit::bytes_of("an earlier one"));
  EXPECT_EQ(lantern({"repair", path_, "--apply", "--journal", journal_}).code, 4);
  EXPECT_EQ(kit::read_file(path_), disk_);
  EXPECT_EQ(lantern({"undo", journal_}).code, 3);
}

TEST_F(RepairCommand, APlanIsKeptAndMadeLaterOrRefusedWhenTheDiskChanged) {
  const std::string plan = folder_ / "plan.json";
  const Ran made = lantern({"repair", path_, "--json"});
  const json document = json::parse(made.out);
  EXPECT_EQ(document["fixes"][0]["steps"], json::array({1}));
  EXPECT_EQ(document["steps"][0]["writes"][0]["before"], "0000");
  EXPECT_EQ(document["steps"][0]["writes"][0]["after"], "55aa");
  EXPECT_TRUE(document["journal"].is_null());
  EXPECT_EQ(document["before"]["files"], 0);
  EXPECT_EQ(document["after"]["files"], 1);
  std::ofstream(plan) << made.out;
  kit::Bytes other = disk_;
  other[100] = std::byte{7};
  folder_.file("station.img", other);
  const Ran refused = lantern({"repair", path_, "--plan", plan, "--apply", "--journal", journal_});
  EXPECT_EQ(refused.code, 4);
  EXPECT_NE(refused.err.find("has changed since the plan was made"), std::string::npos);
  folder_.file("station.img", disk_);
  EXPECT_EQ(lantern({"repair", path_, "--plan", plan, "--apply", "--journal", journal_}).code, 0);
  EXPECT_EQ(kit::read_file(path_), kit::read_file(healthy_));
}

TEST_F(RepairCommand, IsTriedInAScratchOrAChildFirst) {
  const std::string scratch = folder_ / "trial.writes";
  EXPECT_EQ(lantern({"repair", path_, "--apply", "--overlay", scratch}).code, 0);
  EXPECT_EQ(kit::read_file(path_), disk_);
  EXPECT_NE(lantern({"list", path_, "--overlay", scratch}).out.find("/log.txt"), std::string::npos);
  EXPECT_EQ(lantern({"list", path_}).code, 3);
  EXPECT_EQ(lantern({"list", path_, "--overlay", folder_ / "none"}).code, 2);
  const std::string child = folder_ / "trial.qcow2";
  EXPECT_EQ(lantern({"repair", path_, "--apply", "--into", child}).code, 0);
  EXPECT_EQ(kit::read_file(path_), disk_);
  EXPECT_NE(lantern({"list", child}).out.find("/log.txt"), std::string::npos);
  // A trial that nothing has changed since does not block the repair; one that was used does.
  kit::Bytes trial = kit::read_file(child);
  trial.back() ^= std::byte{1};
  const std::string used = folder_.file("used.qcow2", trial);
  std::filesystem::copy_file(child + ".trial", used + ".trial");
  const Ran parent = lantern({"repair", path_, "--apply", "--journal", journal_});
  EXPECT_EQ(parent.code, 4);
  EXPECT_NE(parent.err.find("used.qcow2 is based on it"), std::string::npos);
  std::filesystem::remove(used);
  const Ran told = lantern({"repair", path_, "--apply", "--journal", journal_});
  EXPECT_EQ(told.code, 0) << told.err;
  EXPECT_NE(told.out.find("trial.qcow2 is a trial of this disk as it was"), std::string::npos);
  EXPECT_EQ(lantern({"undo", journal_}).code, 0);
  std::filesystem::remove(journal_);
  EXPECT_EQ(lantern({"repair", path_, "--apply", "--drop-trial", "--journal", journal_}).code, 0);
  EXPECT_FALSE(std::filesystem::exists(child));
}

TEST_F(RepairCommand, ByHandThroughTheSamePlan) {
  EXPECT_EQ(
      lantern({"repair", path_, "--write", "510", "55 aa", "--apply", "--journal", journal_}).code,
      0);
  EXPECT_EQ(kit::read_file(path_), kit::read_file(healthy_));
  const Ran shown = lantern({"repair", path_, "--set", "mbr.entry1.active=no"});
  EXPECT_NE(shown.out.find("mbr.entry1.active: yes becomes no"), std::string::npos);
  EXPECT_EQ(kit::read_file(path_), kit::read_file(healthy_));
}

TEST_F(RepairCommand, WrongWordsAreAnsweredInOneLine) {
  for (const std::vector<std::string>& words :
       std::vector<std::vector<std::string>>{{"repair"},
                                             {"repair", path_, "--apply", "one"},
                                             {"repair", path_, "--apply", "9"},
                                             {"repair", path_, "--set", "mbr.signature"},
                                             {"repair", path_, "--set", "mbr.nothing=1"},
                                             {"repair", path_, "--write", "510", "5"},
                                             {"repair", path_, "--write", "x", "55"},
                                             {"repair", path_, "--plan", folder_ / "none"},
                                             {"undo", folder_ / "none"},
                                             {"undo", path_},
                                             {"sweep", path_, "--every-sector"}}) {
    const Ran ran = lantern(words);
    EXPECT_GE(ran.code, 2) << words.back();
    EXPECT_EQ(std::count(ran.err.begin(), ran.err.end(), '\n'), 1) << ran.err;
    EXPECT_EQ(kit::read_file(path_), disk_);
  }
}

TEST_F(RepairCommand, SweepNamesVolumesNoTableDoes) {
  const Ran ran = lantern({"sweep", path_, "--volumes"});
  EXPECT_EQ(ran.code, 0);
  EXPECT_NE(ran.out.find("1048576"), std::string::npos);
  EXPECT_NE(ran.out.find("lantern repair " + path_), std::string::npos);
  const json document = json::parse(lantern({"sweep", path_, "--volumes", "--json"}).out);
  ASSERT_EQ(document["volumes"].size(), 1u);
  EXPECT_EQ(document["volumes"][0]["start_bytes"], 1048576);
  EXPECT_TRUE(document["volumes"][0]["index"].is_null());
  // The address it gives opens.
  EXPECT_EQ(lantern({"list", document["volumes"][0]["address"].get<std::string>()}).code, 0);
}

}  // namespace
}  // namespace lantern::cli
