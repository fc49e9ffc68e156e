#include "lantern/extraction.h"
#include "source/failing_source.h"

#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>
#include <map>
#include <nlohmann/json.hpp>

#include "base/sha256.h"
#include "kit/fat_builder.h"
#include "kit/ntfs_builder.h"
#include "lantern/error.h"
#include "lantern/sources.h"
#include "lantern/text.h"

namespace lantern {
namespace {

namespace fs = std::filesystem;
using kit::Bytes;
using kit::FatBuilder;
using nlohmann::json;

std::string hash_of(const Bytes& bytes) {
  return sha256_hex(kit::text_of(bytes));
}

class ExtractionOfCard : public ::testing::Test {
 protected:
  ExtractionOfCard() : volume_(FatBuilder::Width::fat16) {
    volume_.folder(0, "Keeper", {10});
    volume_.file(10, "log.txt", log_, {20, 21});
    volume_.remove(volume_.file(0, "gone.jpg", gone_, {30, 31, 32}), {30, 31, 32});
  }

  Target open() {
    const std::string path = folder_.file("card.img", volume_.bytes());
    return Session({}, context_).open_volume(Address::parse(path, [](const auto&) {
      return true;
    }));
  }

  ExtractSummary extract(const Target& target, ExtractOptions options = {}) {
    options.manifest = folder_ / "m.json";
    return Extraction(target, folder_ / "out", options, *this_host(), context_).run();
  }

  json manifest() { return json::parse(kit::text_of(kit::read_file(folder_ / "m.json"))); }

  std::map<std::string, json> rows() {
    std::map<std::string, json> found;
    const json document = manifest();
    for (const json& row : document["files"]) found[row["path"]] = row;
    return found;
  }

  static ExtractOptions with_deleted() {
    ExtractOptions options;
    options.deleted = true;
    return options;
  }

  kit::Folder folder_;
  Context context_;
  FatBuilder volume_;
  const Bytes log_ = kit::pattern(1'000, 1);
  const Bytes gone_ = kit::pattern(1'500, 2);
};

TEST_F(ExtractionOfCard, WritesFilesTheirTimesAndAManifest) {
  ExtractOptions options = with_deleted();
  options.local_to_utc = [](std::int64_t local) { return local - 3'600; };
  const ExtractSummary done = extract(open(), options);
  EXPECT_EQ(done.files, 2u);
  EXPECT_EQ(done.deleted, 1u);
  EXPECT_EQ(kit::read_file(folder_ / "out/Keeper/log.txt"), log_);
  EXPECT_EQ(kit::read_file(folder_ / "out/deleted/gone.jpg"), gone_);
  struct stat facts {};
  ASSERT_EQ(stat((folder_ / "out/Keeper/log.txt").c_str(), &facts), 0);
  EXPECT_EQ(facts.st_mtim.tv_sec, 1773477002 - 3'600);
  const json row = rows()["/Keeper/log.txt"];
  EXPECT_EQ(row["sha256"], hash_of(log_));
  EXPECT_EQ(row["written"], "Keeper/log.txt");
  EXPECT_EQ(row["intact"], 1);
  EXPECT_EQ(row["modified"], "2026-03-14T08:30:02");
  EXPECT_EQ(row["modified_zone"], "local");
  EXPECT_TRUE(manifest()["complete"]);
  EXPECT_FALSE(fs::exists(folder_ / "m.json.part"));
}

TEST_F(ExtractionOfCard, RunningAgainWritesNothingTwice) {
  const Target target = open();
  extract(target, with_deleted());
  const json before = manifest();
  const ExtractSummary again = extract(target, with_deleted());
  EXPECT_EQ(again.files, 0u);
  EXPECT_EQ(again.already_there, 2u);
  EXPECT_EQ(manifest()["files"], before["files"]);
  // What went missing since is written again.
  fs::remove(folder_ / "out/Keeper/log.txt");
  EXPECT_EQ(extract(target, with_deleted()).files, 1u);
  EXPECT_EQ(kit::read_file(folder_ / "out/Keeper/log.txt"), log_);
}

// A kill while a finished manifest was taken up lost its rows, and every file was written twice.
TEST_F(ExtractionOfCard, ATakingUpCutByAKillBeginsAgain) {
  const Target target = open();
  extract(target, with_deleted());
  folder_.file("m.json.part.new", kit::bytes_of("{\"source\": \"half a li"));
  EXPECT_EQ(extract(target, with_deleted()).already_there, 2u);
  EXPECT_FALSE(fs::exists(folder_ / "m.json.part.new"));
}

TEST_F(ExtractionOfCard, AnotherSourceDoesNotGoOnWithThisManifest) {
  extract(open());
  volume_.file(0, "new.txt", kit::pattern(10, 9), {40});
  try {
    extract(open());
    ADD_FAILURE();
  } catch (const Error& error) {
    EXPECT_EQ(error.code(), ErrorCode::refused);
  }
  folder_.file("m.json", kit::bytes_of("my own notes"));
  EXPECT_THROW(extract(open()), Error);
  EXPECT_EQ(kit::text_of(kit::read_file(folder_ / "m.json")), "my own notes");
}

TEST_F(ExtractionOfCard, DamagedFilesLieApartWhenAsked) {
  volume_.file(0, "new.txt", kit::pattern(400, 3), {30});
  ExtractOptions options = with_deleted();
  options.separate_partial = true;
  EXPECT_EQ(extract(open(), options).partial, 1u);
  EXPECT_TRUE(fs::exists(folder_ / "out/partial/gone.jpg"));
  EXPECT_FALSE(fs::exists(folder_ / "out/deleted"));
}

TEST_F(ExtractionOfCard, TheStateIsTheSameInEveryRun) {
  volume_.file(0, "new.txt", kit::pattern(400, 3), {30});
  const Target target = open();
  const ExtractSummary first = extract(target, with_deleted());
  const ExtractSummary again = extract(target, with_deleted());
  EXPECT_EQ(again.files, 0u);
  EXPECT_EQ(again.already_there, first.files);
  EXPECT_EQ(again.partial, first.partial);
}

TEST_F(ExtractionOfCard, DeletedFilesLieBesideActiveOnesWhenAsked) {
  ExtractOptions options = with_deleted();
  options.together = true;
  extract(open(), options);
  EXPECT_EQ(kit::read_file(folder_ / "out/gone.jpg"), gone_);
  EXPECT_EQ(kit::read_file(folder_ / "out/Keeper/log.txt"), log_);
}

TEST_F(ExtractionOfCard, AnEntryIsWrittenUnderTheNameGivenForIt) {
  const Target target = open();
  ExtractOptions options = with_deleted();
  WalkOptions all;
  all.deleted = true;
  target.file_system().walk(all, [&](const Entry& entry) {
    if (entry.path.back() == "gone.jpg") options.names[entry.id] = "../found.jpg";
    return WalkStep::go_on;
  });
  extract(target, options);
  EXPECT_FALSE(fs::exists(folder_ / "found.jpg"));
  EXPECT_EQ(rows()["/gone.jpg"]["written"], "deleted/" + safe_file_name("../found.jpg"));
}

TEST_F(ExtractionOfCard, WhatIsLeftOutStaysOut) {
  ExtractOptions options = with_deleted();
  options.without = {"keeper"};
  EXPECT_EQ(extract(open(), options).files, 1u);
  EXPECT_FALSE(fs::exists(folder_ / "out/Keeper"));
}

TEST_F(ExtractionOfCard, SelectingNothingWritesNothing) {
  ExtractOptions options;
  options.patterns = {"no such name"};
  const ExtractSummary done = extract(open(), options);
  EXPECT_TRUE(done.manifest.empty());
  EXPECT_FALSE(fs::exists(folder_ / "out"));
  EXPECT_FALSE(fs::exists(folder_ / "m.json"));
  EXPECT_TRUE(context_.findings->worse_than_note());
}

TEST_F(ExtractionOfCard, AFolderThatIsAddressedKeepsItsDate) {
  Target target = open();
  target.entry = target.file_system().find({"Keeper"}).front();
  extract(target);
  ASSERT_TRUE(target.entry->modified);
  struct stat facts {};
  ASSERT_EQ(::stat((folder_ / "out/Keeper").c_str(), &facts), 0);
  EXPECT_EQ(facts.st_mtime, target.entry->modified->seconds);
}

TEST_F(ExtractionOfCard, PartlyOverwrittenFilesAreNamedWithTheirLostRanges) {
  volume_.file(0, "new.txt", kit::pattern(400, 3), {30});
  const ExtractSummary done = extract(open(), with_deleted());
  EXPECT_EQ(done.partial, 1u);
  Bytes expected = gone_;
  std::fill_n(expected.begin(), 512, std::byte{0});
  EXPECT_EQ(kit::read_file(folder_ / "out/deleted/gone.jpg"), expected);
  const json row = rows()["/gone.jpg"];
  EXPECT_EQ(row["lost"], json::parse("[[0, 512]]"));
  EXPECT_EQ(row["sha256"], hash_of(expected));
  EXPECT_TRUE(row["partial"]);
  EXPECT_LT(row["intact"], 1);
}

TEST_F(ExtractionOfCard, NothingIsWrittenOfAFileOfWhichNothingIsLeft) {
  volume_.file(0, "new.txt", kit::pattern(1'500, 3), {30, 31, 32});
  EXPECT_EQ(extract(open(), with_deleted()).unrecoverable, 1u);
  EXPECT_TRUE(rows()["/gone.jpg"]["written"].is_null());
  EXPECT_TRUE(rows()["/gone.jpg"]["sha256"].is_null());
}

TEST_F(ExtractionOfCard, EntriesOfOneNameAreAllKept) {
  volume_.remove(volume_.file(0, "gone.jpg", log_, {40, 41}), {40, 41});
  extract(open(), with_deleted());
  std::vector<Bytes> found;
  for (const auto& at : fs::directory_iterator(folder_ / "out/deleted"))
    found.push_back(kit::read_file(at.path()));
  ASSERT_EQ(found.size(), 2u);
  EXPECT_NE(found[0], found[1]);
}

TEST_F(ExtractionOfCard, WhatIsThereIsNeverReplaced) {
  folder_.file("out/Keeper/log.txt", kit::bytes_of("mine"));
  extract(open());
  EXPECT_EQ(kit::text_of(kit::read_file(folder_ / "out/Keeper/log.txt")), "mine");
  const std::string written = rows()["/Keeper/log.txt"]["written"];
  EXPECT_NE(written, "Keeper/log.txt");
  EXPECT_EQ(kit::read_file(folder_ / ("out/" + written)), log_);
}

TEST_F(ExtractionOfCard, HostileNamesStayInsideTheDestination) {
  volume_.file(0, "../../up.txt", log_, {50, 51});
  volume_.file(0, "a\nb\x1b[31m", log_, {52, 53});
  volume_.file(0, std::string(250, 'w') + ".txt", log_, {54, 55});
  EXPECT_EQ(extract(open()).files, 4u);
  EXPECT_TRUE(fs::exists(folder_ / "out/..%2F..%2Fup.txt"));
  EXPECT_TRUE(fs::exists(folder_ / "out/a%0Ab%1B[31m"));
  const json row = rows()["/../../up.txt"];
  EXPECT_EQ(row["path_bytes"], "Ly4uLy4uL3VwLnR4dA==");
  std::vector<std::string> outside;
  for (const auto& at : fs::directory_iterator(folder_.path()))
    outside.push_back(at.path().filename());
  std::sort(outside.begin(), outside.end());
  EXPECT_EQ(outside, (std::vector<std::string>{"card.img", "m.json", "out"}));
}

TEST_F(ExtractionOfCard, ALinkInTheDestinationIsNotFollowed) {
  fs::create_directories(folder_ / "elsewhere");
  fs::create_directories(folder_ / "out");
  fs::create_directory_symlink(folder_ / "elsewhere", folder_ / "out/Keeper");
  extract(open());
  EXPECT_TRUE(fs::is_empty(folder_ / "elsewhere"));
  EXPECT_EQ(rows()["/Keeper/log.txt"]["written"], "Keeper (folder)/log.txt");
  EXPECT_EQ(kit::read_file(folder_ / "out/Keeper (folder)/log.txt"), log_);
}

TEST_F(ExtractionOfCard, AFileAndAFolderOfOneNameAreBothKept) {
  volume_.remove(volume_.file(0, "Old", log_, {40, 41}), {40, 41});
  const auto folder = volume_.folder(0, "Old", {42});
  volume_.remove(volume_.file(42, "diary.txt", gone_, {43, 44, 45}), {43, 44, 45});
  volume_.remove(folder, {42});
  extract(open(), with_deleted());
  EXPECT_EQ(rows()["/Old"]["written"], "deleted/Old");
  EXPECT_EQ(rows()["/Old/diary.txt"]["written"], "deleted/Old (folder)/diary.txt");
  EXPECT_EQ(kit::read_file(folder_ / "out/deleted/Old (folder)/diary.txt"), gone_);
}

TEST_F(ExtractionOfCard, AFolderThatCannotBeMadeIsSaidInItsRows) {
  folder_.file("out/Keeper", {});
  folder_.file("out/Keeper (folder)", {});
  EXPECT_EQ(extract(open()).failed, 2u) << "the folder and its file";
  EXPECT_FALSE(manifest()["complete"]);
  EXPECT_TRUE(rows()["/Keeper/log.txt"].contains("failed"));
  fs::remove(folder_ / "out/Keeper");
  EXPECT_EQ(extract(open()).files, 1u) << "and is tried again";
  EXPECT_TRUE(manifest()["complete"]);
}

TEST_F(ExtractionOfCard, PatternsAndIdsChoose) {
  ExtractOptions options = with_deleted();
  options.patterns = {"*.JPG"};
  EXPECT_EQ(extract(open(), options).files, 1u);
  EXPECT_FALSE(fs::exists(folder_ / "out/Keeper"));
  EXPECT_TRUE(matches_any({"keeper/*"}, {"Keeper", "log.txt"}));
  EXPECT_FALSE(matches_any({"keeper/*"}, {"Other", "log.txt"}));
  EXPECT_TRUE(matches_any({}, {"anything"}));
  options.patterns = {};
  options.ids = {rows()["/gone.jpg"]["id"]};
  EXPECT_EQ(extract(open(), options).already_there, 1u);
}

TEST_F(ExtractionOfCard, AnEstimateWritesNothing) {
  Extraction job(open(), folder_ / "out", with_deleted(), *this_host(), context_);
  const ExtractEstimate sum = job.estimate();
  EXPECT_EQ(sum.files, 2u);
  EXPECT_EQ(sum.folders, 1u);
  EXPECT_EQ(sum.bytes, log_.size() + gone_.size());
  EXPECT_GT(sum.free_bytes, 0u);
  EXPECT_FALSE(fs::exists(folder_ / "out"));
}

TEST_F(ExtractionOfCard, TheSourceItselfIsNoDestination) {
  const Target target = open();
  try {
    Extraction(target, folder_ / "card.img", {}, *this_host(), context_);
    ADD_FAILURE();
  } catch (const Error& error) {
    EXPECT_EQ(error.code(), ErrorCode::refused);
  }
  ExtractOptions options;
  options.manifest = folder_ / "card.img";
  EXPECT_THROW(Extraction(target, folder_ / "out", options, *this_host(), context_).run(), Error);
  EXPECT_EQ(kit::read_file(folder_ / "card.img"), volume_.bytes());
}

// Stops after a number of progress reports, as Ctrl-C would.
class StopAfter final : public Progress {
 public:
  StopAfter(std::shared_ptr<std::atomic<bool>> stop, int calls)
      : stop_(std::move(stop)), left_(calls) {}
  void update(std::uint64_t, std::uint64_t, std::string_view) override {
    if (--left_ == 0) stop_->store(true);
  }

 private:
  std::shared_ptr<std::atomic<bool>> stop_;
  int left_;
};

TEST_F(ExtractionOfCard, StoppedAnywhereItGoesOnToTheSameTreeAndManifest) {
  for (std::uint32_t i = 0; i < 6; ++i)
    volume_.file(0, "count " + std::to_string(i), kit::pattern(700, i), {60 + 2 * i, 61 + 2 * i});
  const Target target = open();
  extract(target, with_deleted());
  const json whole = manifest()["files"];
  for (int after = 1; after <= 9; ++after) {
    fs::remove_all(folder_ / "out");
    fs::remove(folder_ / "m.json");
    const auto stop = std::make_shared<std::atomic<bool>>(false);
    context_.cancel = stop;
    context_.progress = std::make_shared<StopAfter>(stop, after);
    const ExtractSummary first = extract(target, with_deleted());
    // At the last report all files are there, but not yet the times of their folders.
    EXPECT_EQ(first.stopped, after < 9);
    EXPECT_EQ(manifest()["complete"], after == 9);
    const json stopped = manifest();
    for (const json& row : stopped["files"])
      EXPECT_EQ(hash_of(kit::read_file(folder_ / ("out/" + row["written"].get<std::string>()))),
                row["sha256"]);
    EXPECT_FALSE(fs::exists(folder_ / "out/.lantern-unfinished"));
    context_.cancel = nullptr;
    context_.progress = nullptr;
    const ExtractSummary second = extract(target, with_deleted());
    EXPECT_EQ(first.files + second.files, 8u);
    EXPECT_EQ(manifest()["files"], whole);
  }
}

TEST_F(ExtractionOfCard, APartFileCutByAKillIsTakenUp) {
  const Target target = open();
  extract(target, with_deleted());
  const json whole = manifest()["files"];
  ASSERT_EQ(whole.size(), 2u);
  fs::remove_all(folder_ / "out");
  fs::remove(folder_ / "m.json");
  const auto stop = std::make_shared<std::atomic<bool>>(false);
  context_.cancel = stop;
  context_.progress = std::make_shared<StopAfter>(stop, 1);
  EXPECT_EQ(extract(target, with_deleted()).files, 1u);
  context_.cancel = nullptr;
  context_.progress = nullptr;
  // As a kill leaves it: no document, and a part file that ends in the middle of a line.
  fs::remove(folder_ / "m.json");
  std::ofstream(folder_ / "m.json.part", std::ios::app) << "{\"volume\": \"card.i";
  const ExtractSummary done = extract(target, with_deleted());
  EXPECT_EQ(done.already_there, 1u);
  EXPECT_EQ(done.files, 1u);
  EXPECT_EQ(manifest()["files"], whole);
  std::ofstream(folder_ / "m.json.part") << "{\"source\": 1}\n";
  EXPECT_THROW(extract(target, with_deleted()), Error) << "another job's";
}

TEST_F(ExtractionOfCard, AManifestLaidOutByAnotherHandIsTakenUp) {
  const Target target = open();
  extract(target, with_deleted());
  const json whole = manifest()["files"];
  auto document = nlohmann::ordered_json::parse(kit::text_of(kit::read_file(folder_ / "m.json")));
  for (const int indent : {-1, 4}) {
    folder_.file("m.json", kit::bytes_of(document.dump(indent)));
    EXPECT_EQ(extract(target, with_deleted()).already_there, 2u);
    EXPECT_EQ(manifest()["files"], whole);
  }
  // Of two rows of one id the last counts.
  document["files"].insert(document["files"].begin(), document["files"].back());
  document["files"].front()["written"] = "elsewhere";
  folder_.file("m.json", kit::bytes_of(document.dump()));
  EXPECT_EQ(extract(target, with_deleted()).already_there, 2u);
  EXPECT_EQ(manifest()["files"], whole);
}

TEST_F(ExtractionOfCard, ADocumentThatIsNoWholeManifestIsLeftAsItIs) {
  const Target target = open();
  extract(target);
  const std::string whole = kit::text_of(kit::read_file(folder_ / "m.json"));
  const auto document = nlohmann::ordered_json::parse(whole);
  nlohmann::ordered_json rows_first{{"files", document["files"]}, {"job", document["job"]}};
  nlohmann::ordered_json no_rows{{"job", document["job"]}};
  for (const std::string& text : {whole.substr(0, whole.size() / 2), rows_first.dump(),
                                  no_rows.dump(), std::string("[]"), std::string()}) {
    folder_.file("m.json", kit::bytes_of(text));
    EXPECT_THROW(extract(target), Error) << text;
    EXPECT_EQ(kit::text_of(kit::read_file(folder_ / "m.json")), text);
    EXPECT_FALSE(fs::exists(folder_ / "m.json.part"));
    EXPECT_FALSE(fs::exists(folder_ / "m.json.part.new"));
  }
}

TEST(Extraction, StreamsAreFilesOfTheirOwnWithARowEach) {
  kit::NtfsBuilder volume;
  volume.record(30, 1, 1,
                {kit::NtfsBuilder::standard(kit::NtfsBuilder::kNow, kit::NtfsBuilder::kNow),
                 kit::NtfsBuilder::name(5, 5, "log.txt", kit::NtfsBuilder::kNow),
                 kit::NtfsBuilder::resident(0x80, kit::bytes_of("two eggs")),
                 kit::NtfsBuilder::resident(0x80, kit::bytes_of("by hand"), "no/te")});
  const kit::Folder folder;
  const Context context;
  const std::string disk = folder.file("card.img", volume.bytes());
  const auto exists = [](const std::string& path) { return fs::exists(path); };
  ExtractOptions options;
  options.streams = true;
  const auto extract = [&](const std::string& address, const std::string& out) {
    const Target target = Session({}, context).open_volume(Address::parse(address, exists));
    return Extraction(target, folder / out, options, *this_host(), context).run();
  };
  EXPECT_EQ(extract(disk, "out").files, 2u);
  EXPECT_EQ(kit::text_of(kit::read_file(folder / "out/log.txt")), "two eggs");
  EXPECT_EQ(kit::text_of(kit::read_file(folder / "out/log.txt (stream no%2Fte)")), "by hand");
  const json rows =
      json::parse(kit::text_of(kit::read_file(folder / "out.manifest.json")))["files"];
  ASSERT_EQ(rows.size(), 2u);
  EXPECT_TRUE(rows[0]["stream"].is_null());
  EXPECT_EQ(rows[1]["stream"], "no/te");
  EXPECT_EQ(rows[1]["path"], "/log.txt");
  EXPECT_EQ(rows[1]["size_bytes"], 7);
  EXPECT_EQ(extract(disk, "out").already_there, 2u);

  options.streams = false;
  EXPECT_EQ(extract(disk + "::1::/log.txt::stream=no/te", "alone").files, 1u);
  EXPECT_EQ(kit::text_of(kit::read_file(folder / "alone/log.txt (stream no%2Fte)")), "by hand");
  EXPECT_FALSE(fs::exists(folder / "alone/log.txt"));
  EXPECT_THROW(extract(disk + "::1::/log.txt::stream=other", "none"), Error);
}

TEST(Extraction, BytesThatCannotBeReadAreLostAndTheRestIsKept) {
  FatBuilder volume(FatBuilder::Width::fat16);
  const Bytes log = kit::pattern(2'000, 1);
  volume.file(0, "log.txt", log, {20, 21, 22, 23});
  FaultPlan plan;
  plan.unreadable.push_back({volume.cluster_offset(21), 512});
  const Context context;
  const auto disk = std::make_shared<DiskLayer>();
  disk->address.first = "sick";
  disk->file = disk->bytes = disk->container.flat =
      std::make_shared<FailingSource>(make_memory_source(volume.bytes()), plan, [](auto) {});
  Target target;
  target.volume = std::make_shared<VolumeLayer>(disk->address, VolumeRow(), disk->bytes,
                                                open_file_system(disk->bytes, {}, context));
  target.disks = {disk};
  const kit::Folder folder;
  const ExtractSummary done = Extraction(target, folder / "out", {}, *this_host(), context).run();
  EXPECT_EQ(done.partial, 1u);
  Bytes expected = log;
  std::fill_n(expected.begin() + 512, 512, std::byte{0});
  EXPECT_EQ(kit::read_file(folder / "out/log.txt"), expected);
  const json document = json::parse(kit::text_of(kit::read_file(folder / "out.manifest.json")));
  EXPECT_EQ(document["files"][0]["lost"], json::parse("[[512, 512]]"));
  EXPECT_DOUBLE_EQ(document["files"][0]["intact"], 1 - 512.0 / 2000);
}

}  // namespace
}  // namespace lantern
