#include "lantern/recover/manifest_check.h"

#include <gtest/gtest.h>

#include <filesystem>

#include "kit/bytes.h"
#include "kit/fat_builder.h"
#include "lantern/error.h"
#include "lantern/extraction.h"
#include "lantern/report/extraction_report.h"

namespace lantern {
namespace {

namespace fs = std::filesystem;
using kit::FatBuilder;

class ManifestOfCard : public ::testing::Test {
 protected:
  ManifestOfCard() {
    FatBuilder volume(FatBuilder::Width::fat16);
    volume.folder(0, "Keeper", {10});
    volume.file(10, "log.txt", kit::pattern(900, 1), {20, 21});
    volume.file(0, "<b>&.jpg", kit::pattern(100, 2), {22});
    const auto gone = volume.file(0, "gone.txt", kit::pattern(1200, 3), {30, 31, 32});
    volume.remove(gone, {30, 31, 32});
    volume.file(0, "new.txt", kit::pattern(400, 4), {30});
    const Target target =
        Session({}, context_).open_volume(Address::parse(folder_.file("card.img", volume.bytes())));
    ExtractOptions options;
    options.deleted = true;
    Extraction(target, folder_ / "out", options, *this_host(), context_).run();
  }

  ManifestCheck check(const std::string& folder = "") {
    problems_.clear();
    return check_manifest(folder_ / "out.manifest.json", folder, context_,
                          [&](const ManifestProblem& problem) { problems_.push_back(problem); });
  }

  kit::Folder folder_;
  Context context_;
  std::vector<ManifestProblem> problems_;
};

TEST_F(ManifestOfCard, EveryFileIsAsItWasWritten) {
  const ManifestCheck found = check();
  EXPECT_TRUE(found.good());
  EXPECT_EQ(found.files, 4u);
  EXPECT_EQ(found.matching, 4u);
  EXPECT_EQ(found.folder, folder_ / "out");
}

TEST_F(ManifestOfCard, WhatChangedSinceIsNamed) {
  folder_.file("out/new.txt", kit::pattern(400, 5));
  fs::remove(folder_ / "out/Keeper/log.txt");
  const ManifestCheck found = check();
  EXPECT_FALSE(found.good());
  ASSERT_EQ(problems_.size(), 2u);
  for (const ManifestProblem& problem : problems_)
    EXPECT_EQ(problem.state,
              problem.written == "new.txt" ? ManifestState::changed : ManifestState::missing);
}

TEST_F(ManifestOfCard, NoLinkIsFollowed) {
  fs::remove(folder_ / "out/new.txt");
  fs::copy_file(folder_ / "card.img", folder_ / "elsewhere");
  fs::create_symlink(folder_ / "elsewhere", folder_ / "out/new.txt");
  check();
  ASSERT_EQ(problems_.size(), 1u);
  EXPECT_EQ(problems_.front().state, ManifestState::missing);
}

TEST_F(ManifestOfCard, FilesMayHaveMoved) {
  fs::rename(folder_ / "out", folder_ / "moved");
  EXPECT_THROW(check(), Error);
  EXPECT_TRUE(check(folder_ / "moved").good());
}

TEST_F(ManifestOfCard, OtherDocumentsAreRefused) {
  folder_.file("out.manifest.json", kit::bytes_of("{\"files\": [{\"written\": \"new.txt\"}]}"));
  EXPECT_THROW(check(), Error);
  folder_.file("out.manifest.json", kit::bytes_of("{\"manifest\": 1, \"files\": [{\"writ"));
  EXPECT_THROW(check(), Error);
}

TEST_F(ManifestOfCard, APathOutOfTheFolderIsNotFollowed) {
  folder_.file(
      "out.manifest.json",
      kit::bytes_of("{\"manifest\": 1, \"complete\": true, \"files\": [{\"path\": \"/x\","
                    "\"kind\": \"file\", \"written\": \"../card.img\", \"size_bytes\": 1}]}"));
  EXPECT_EQ(check().bad, 1u);
}

TEST_F(ManifestOfCard, AReportSaysWhatWasTaken) {
  const ReportFiles files =
      report_extraction(folder_ / "out.manifest.json", "lantern verify X", context_);
  const std::string text = kit::text_of(kit::read_file(files.text));
  EXPECT_NE(text.find("4 files written"), std::string::npos) << text;
  EXPECT_NE(text.find("1 of them incomplete or in doubt"), std::string::npos) << text;
  EXPECT_NE(text.find("/gone.txt"), std::string::npos);
  EXPECT_NE(text.find("lantern verify X"), std::string::npos);
  const std::string page = kit::text_of(kit::read_file(files.page));
  EXPECT_EQ(page.find("<b>&"), std::string::npos) << "a name is no part of the page";
  EXPECT_NE(page.find("&lt;b&gt;&amp;.jpg"), std::string::npos);
  EXPECT_EQ(page.find("http"), std::string::npos) << "it needs no network";
}

}  // namespace
}  // namespace lantern
