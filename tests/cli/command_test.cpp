// The command itself, in process: what it prints, and how it ends.
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>

#include "cli/ran.h"
#include "kit/disk_builder.h"
#include "kit/fat_builder.h"

namespace lantern::cli {
namespace {

using kit::FatBuilder;
using nlohmann::json;

class Command : public ::testing::Test {
 protected:
  Command() {
    FatBuilder volume(FatBuilder::Width::fat16);
    volume.label("SKERCAM    ");
    volume.folder(0, "DCIM", {10});
    volume.file(10, "gannet.jpg", kit::pattern(1'000, 1), {20, 21});
    volume.remove(volume.file(10, "puffin.jpg", kit::pattern(1'500, 2), {30, 31, 32}),
                  {30, 31, 32});
    volume.remove(volume.file(10, "fulmar.jpg", kit::pattern(1'500, 3), {40, 41, 42}),
                  {40, 41, 42});
    volume.file(0, "new.txt", kit::pattern(500, 4), {40});
    volume.file(0, "bad\x1b[2Jname\xC2\x85", kit::pattern(10, 5), {50});
    card_ = folder_.file("card.img", volume.bytes());
  }
  kit::Folder folder_;
  std::string card_;
};

TEST_F(Command, SurveyTellsTheVolumeAndTheNextCommand) {
  const Ran ran = lantern({"survey", card_});
  EXPECT_EQ(ran.code, kDone);
  EXPECT_NE(ran.out.find("* " + card_ + "::1"), std::string::npos);
  EXPECT_NE(ran.out.find("No problems found in 1 file system (fat16)."), std::string::npos);
  EXPECT_NE(ran.out.find("lantern list " + card_ + "::1 --deleted"), std::string::npos);
  EXPECT_EQ(ran.err, "");
  const json report = json::parse(lantern({"survey", card_, "--json"}).out);
  EXPECT_EQ(report["chosen"], card_ + "::1");
  EXPECT_EQ(report["volumes"][0]["label"], "SKERCAM");
  EXPECT_EQ(report["volumes"][0]["deleted"], 2);
  EXPECT_TRUE(report["volumes"][0]["likely_user_files"]);
}

TEST_F(Command, ListShowsDeletedEntriesAndHowMuchIsLeft) {
  const Ran ran = lantern({"list", card_, "--deleted"});
  EXPECT_EQ(ran.code, kDone);
  EXPECT_NE(ran.out.find("deleted  100 %     1.5 KiB  2026-03-14 08:30:02  /DCIM/puffin.jpg\n"),
            std::string::npos)
      << ran.out;
  EXPECT_NE(ran.out.find("deleted   65 %     1.5 KiB"), std::string::npos) << ran.out;
  EXPECT_EQ(ran.err, "3 files, 1 folder; 2 deleted, 1 of them intact\n");
  EXPECT_EQ(lantern({"list", card_}).out.find("puffin"), std::string::npos);
  EXPECT_EQ(lantern({"list", card_, "--deleted-only"}).out.find("gannet"), std::string::npos);
  EXPECT_EQ(lantern({"list", card_, "--match", "*.JPG", "--exact"}).out.find("new.txt"),
            std::string::npos);
}

TEST_F(Command, TheTerminalStaysSane) {
  for (const bool colour : {false, true})
    for (const char* command : {"survey", "list"}) {
      const Ran ran = lantern({command, card_}, colour);
      EXPECT_EQ(ran.out.find("\x1b[2J"), std::string::npos);
      EXPECT_EQ(ran.out.find("\xC2\x85"), std::string::npos);
      EXPECT_EQ(ran.out.find('\x1b') != std::string::npos, colour);
    }
}

TEST_F(Command, OnATerminalAFoldersPathIsWrittenOnce) {
  const Ran ran = lantern({"list", card_, "--deleted"}, false, 200);
  const std::size_t at = ran.out.find("/DCIM/");
  ASSERT_NE(at, std::string::npos);
  EXPECT_EQ(ran.out.find("/DCIM/", at + 1), std::string::npos) << ran.out;
  EXPECT_LT(at, ran.out.find("  gannet.jpg\n"));
  EXPECT_LT(ran.out.find("new.txt"), at) << "what is no folder comes first";
  // A folder that a pattern leaves out is written all the same.
  const Ran matched = lantern({"list", card_, "--match", "gannet*"}, false, 200);
  EXPECT_NE(matched.out.find("/DCIM/\n"), std::string::npos) << matched.out;
}

TEST_F(Command, ANarrowTerminalBreaksLongNamesAndLosesNothing) {
  FatBuilder volume(FatBuilder::Width::fat16);
  const std::string name =
      "\xE2\x80\xAEtxt.nest counts of the north ledge, all seasons, by hand.csv";
  volume.file(0, name, kit::pattern(10, 5), {50});
  const std::string disk = folder_.file("marks.img", volume.bytes());
  const Ran ran = lantern({"list", disk}, false, 80);
  std::istringstream lines(ran.out);
  std::string together;
  for (std::string line; std::getline(lines, line);) {
    EXPECT_LE(line.size(), 80u) << line;
    together += line.substr(std::min(line.size(), line.find_first_not_of(' ')));
  }
  EXPECT_EQ(ran.out.find("\xE2\x80\xAE"), std::string::npos) << "it would turn the line around";
  EXPECT_NE(together.find("txt.nest counts of"), std::string::npos);
  EXPECT_NE(ran.out.find(".csv"), std::string::npos);
}

TEST_F(Command, ManyFindingsOfOneKindAreOne) {
  FatBuilder volume(FatBuilder::Width::fat16);
  for (std::uint32_t i = 0; i < 30; ++i) {
    volume.file(0, "count" + std::to_string(i) + ".csv", kit::pattern(1'500, i),
                {100 + 3 * i, 101 + 3 * i, 102 + 3 * i});
    volume.link(100 + 3 * i, 0xFFF0);  // a chain that leads nowhere
  }
  const std::string disk = folder_.file("chains.img", volume.bytes());
  const Ran grouped = lantern({"survey", disk});
  EXPECT_EQ(grouped.code, kDoneWithFindings);
  EXPECT_NE(grouped.out.find("and 29 more like it"), std::string::npos) << grouped.out;
  EXPECT_LT(std::count(grouped.out.begin(), grouped.out.end(), '\n'), 40);
  EXPECT_NE(grouped.out.find("30 of 30 files are incomplete."), std::string::npos);
  const json findings = json::parse(lantern({"survey", disk, "--json"}).out)["findings"];
  ASSERT_EQ(findings.size(), 1u);
  EXPECT_EQ(findings[0]["count"], 30);
  EXPECT_EQ(findings[0]["places"].size(), 30u);
  EXPECT_EQ(json::parse(lantern({"survey", disk, "--json", "--findings"}).out)["findings"].size(),
            30u);
}

TEST_F(Command, ExtractOfAllVolumesGivesEachAFolder) {
  const Ran ran = lantern({"extract", card_, folder_ / "ALL", "--all-volumes"});
  EXPECT_EQ(ran.code, kDone) << ran.err;
  EXPECT_TRUE(std::filesystem::exists(folder_ / "ALL/volume-1/DCIM/gannet.jpg"));
  EXPECT_EQ(lantern({"extract", card_, folder_ / "X", "--all-volumes", "--json"}).code, kUsage);
}

TEST_F(Command, EveryPrintedAddressOpensAgain) {
  const json listed = json::parse(lantern({"list", card_, "--deleted", "--json"}).out);
  ASSERT_EQ(listed["entries"].size(), 6u);
  for (const json& entry : listed["entries"]) {
    const std::string address = entry["address"];
    const json again = json::parse(lantern({"list", address, "--json", "--depth", "1"}).out);
    if (entry["kind"] == "file") {
      EXPECT_EQ(again["entries"][0]["id"], entry["id"]) << address;
    }
  }
}

TEST_F(Command, ExtractSaysWhatCameBack) {
  const std::string out = folder_ / "out";
  const Ran ran = lantern(
      {"extract", card_, out, "--deleted", "--case", folder_ / "case", "--timezone", "UTC"});
  EXPECT_EQ(ran.code, kDoneWithFindings) << "one is not whole";
  EXPECT_NE(ran.out.find("5 files"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("1 incomplete or in doubt"), std::string::npos) << ran.out;
  EXPECT_EQ(kit::read_file(out + "/deleted/DCIM/puffin.jpg"), kit::pattern(1'500, 2));
  const json line = json::parse(kit::text_of(kit::read_file(folder_ / "case/case.jsonl")));
  EXPECT_EQ(line["exit"], 1);
  EXPECT_EQ(line["sources"][0]["path"], card_);
  EXPECT_EQ(line["outputs"][0]["path"], out + ".manifest.json");
  EXPECT_EQ(
      json::parse(lantern({"extract", card_, out, "--deleted", "--json"}).out)["already_there"], 5);
}

TEST_F(Command, ExtractTakesOneFileOrOneFolder) {
  EXPECT_EQ(lantern({"extract", card_ + "::1::/DCIM/gannet.jpg", folder_ / "one"}).code, kDone);
  EXPECT_EQ(kit::read_file(folder_ / "one/DCIM/gannet.jpg"), kit::pattern(1'000, 1));
  EXPECT_EQ(lantern({"extract", card_ + "::/DCIM", folder_ / "folder", "--deleted"}).code,
            kDoneWithFindings);
  EXPECT_FALSE(std::filesystem::exists(folder_ / "folder/new.txt"));
  EXPECT_TRUE(std::filesystem::exists(folder_ / "folder/deleted/DCIM/puffin.jpg"));
}

TEST_F(Command, EstimateWritesNothing) {
  const Ran ran = lantern({"extract", card_, folder_ / "out", "--estimate"});
  EXPECT_EQ(ran.code, kDone);
  EXPECT_EQ(ran.out.substr(0, ran.out.find('\n')),
            "3 files, 1 folder, 1.5 KiB; 0 of them incomplete or in doubt");
  EXPECT_FALSE(std::filesystem::exists(folder_ / "out"));
}

struct Refusal {
  std::vector<std::string> arguments;
  int code;
  std::string says;
};

TEST_F(Command, BadInputGetsOneClearLine) {
  const std::string text =
      folder_.file("notes.txt", kit::bytes_of("These are notes, not a disk.\n"));
  const std::string tiny = folder_.file("tiny", kit::bytes_of("x"));
  const std::string empty = folder_.file("empty", {});
  const std::vector<Refusal> refusals = {
      {{"survey", folder_ / "absent.img"}, kCannotRead, "No such file"},
      {{"survey", empty}, kCannotRead, "is empty"},
      {{"list", text}, kCannotRead, "no file system that can be read"},
      {{"list", tiny}, kCannotRead, "no file system that can be read"},
      {{"list", card_ + "::7"}, kUsage, "there is no volume \"7\""},
      {{"list", card_ + "::1::/absent"}, kUsage, "there is no /absent"},
      {{"list", card_ + "::at=x"}, kUsage, "is not a valid number"},
      {{"list", card_, "--code-page", "nonsense"}, kUsage, "code page"},
      {{"list", card_, "--sector-size", "17"}, kUsage, "sector-size"},
      {{"survey"}, kUsage, "no source is named"},
      {{"survey", "--no-such-option", card_}, kUsage, "no-such-option"},
      {{"no-such-command"}, kUsage, "there is no command \"no-such-command\""},
      {{}, kUsage, "lantern --help"},
      {{"extract", card_}, kUsage, "a source and a destination"},
      {{"extract", card_, card_}, kRefused, "it is the source itself"},
      {{"extract", card_, text}, kRefused, "it is a file, not a folder"},
      {{"extract", card_, folder_ / "o", "--timezone", "Nowhere/Else"}, kUsage, "zone"},
      {{"extract", card_, folder_ / "o", "--manifest", card_}, kRefused, "is there already"},
      {{"demo", text}, kRefused, ""},
  };
  for (const Refusal& refusal : refusals) {
    const Ran ran = lantern(refusal.arguments);
    EXPECT_EQ(ran.code, refusal.code) << ran.err;
    EXPECT_NE(ran.err.find(refusal.says), std::string::npos) << ran.err;
    EXPECT_EQ(std::count(ran.err.begin(), ran.err.end(), '\n'), 1) << ran.err;
    EXPECT_EQ(ran.out, "");
  }
  const Ran no_disk = lantern({"survey", text});
  EXPECT_EQ(no_disk.code, kDone);
  EXPECT_NE(no_disk.out.find("No file system that can be read was found."), std::string::npos);
  EXPECT_EQ(no_disk.out.find("Nothing wrong"), std::string::npos);
}

TEST_F(Command, SourceOutrightTakesNamesThatLookLikeAddresses) {
  const std::string odd = folder_ / "odd::2";
  std::filesystem::copy_file(card_, odd);
  EXPECT_EQ(lantern({"list", odd}).code, kDone) << "it exists whole";
  EXPECT_EQ(lantern({"list", "--source", odd, "1::/DCIM"}).code, kDone);
  EXPECT_EQ(lantern({"survey", "--source", odd}).code, kDone);
  EXPECT_EQ(lantern({"extract", "--source", odd, folder_ / "out"}).code, kDone);
}

TEST_F(Command, AnImageIsOfTheKindItsNameSays) {
  const auto mark = [&](const std::string& name) {
    std::ifstream file(folder_ / name, std::ios::binary);
    std::string start(4, '\0');
    file.read(start.data(), 4);
    return start;
  };
  EXPECT_EQ(lantern({"image", card_, folder_ / "a.QCOW2", "--no-hash"}).code, kDone);
  EXPECT_EQ(mark("a.QCOW2"), "QFI\xfb");
  EXPECT_EQ(lantern({"image", card_, folder_ / "b.vmdk", "--no-hash"}).code, kDone);
  EXPECT_EQ(mark("b.vmdk"), "KDMV");
  EXPECT_EQ(lantern({"image", card_, folder_ / "c", "--as", "vmdk", "--no-hash"}).code, kDone);
  EXPECT_EQ(mark("c"), "KDMV");
  EXPECT_EQ(lantern({"image", card_, folder_ / "d.vmdk", "--as", "vmdk-stream"}).code, kDone);
  for (const auto& [name, kind] : std::vector<std::pair<std::string, std::string>>{
           {"e.vmdk", "raw"}, {"e.img", "vdi"}, {"e.vhd", "vhdx"}}) {
    EXPECT_EQ(lantern({"image", card_, folder_ / name, "--as", kind}).code, kUsage) << name;
    EXPECT_FALSE(std::filesystem::exists(folder_ / name));
  }
}

TEST_F(Command, HelpHasAnExampleForEachCommand) {
  EXPECT_EQ(lantern({"--help"}).code, kDone);
  EXPECT_EQ(lantern({"--version"}).code, kDone);
  for (const char* command :
       {"disks", "map", "survey", "machines", "list", "find", "show", "extract", "image", "sector",
        "compare", "sweep", "repair", "undo", "demo"}) {
    const Ran ran = lantern({command, "--help"});
    EXPECT_EQ(ran.code, kDone);
    const std::size_t examples = ran.out.find("\nExample");
    ASSERT_NE(examples, std::string::npos) << command;
    EXPECT_NE(ran.out.find(std::string("lantern ") + command, examples), std::string::npos);
  }
}

TEST_F(Command, DemoLaysOutDisksThatGiveBackTheirFiles) {
  const std::string demo = folder_ / "skerrow";
  EXPECT_EQ(lantern({"demo", demo}).code, kDone);
  EXPECT_EQ(lantern({"demo", demo}).code, kRefused) << "nothing is replaced";
  struct stat facts {};
  ASSERT_EQ(stat((demo + "/station.vdi").c_str(), &facts), 0);
  EXPECT_LT(facts.st_blocks * 512, facts.st_size) << "its holes are holes";
  // A disk in a file of a disk is copied as the disk; as it lies with "bytes".
  const std::string radio = demo + "/tower.img::1::/machines/radio/radio.vdi";
  EXPECT_EQ(lantern({"extract", radio, demo + "/OUT"}).code, kDone);
  EXPECT_EQ(lantern({"image", radio, demo + "/radio.raw", "--no-hash"}).code, kDone);
  EXPECT_EQ(lantern({"image", radio + "::bytes", demo + "/radio.file", "--no-hash"}).code, kDone);
  EXPECT_EQ(kit::text_of(kit::read_file(demo + "/radio.raw")).substr(510, 2), "\x55\xAA");
  EXPECT_NE(kit::text_of(kit::read_file(demo + "/radio.file")).substr(0, 64).find("Disk Image"),
            std::string::npos);
  const Ran ran = lantern({"list", demo + "/station.vdi", "--deleted-only"});
  EXPECT_NE(ran.out.find("::2: "), std::string::npos) << "the keeper's volume is chosen";
  EXPECT_NE(ran.out.find("/Photographs/Gannet colony from the gallery.jpg"), std::string::npos);
}

}  // namespace
}  // namespace lantern::cli
