#include <gtest/gtest.h>

#include <atomic>
#include <thread>

#include "kit/fat_builder.h"
#include "lantern/error.h"
#include "lantern/file_system.h"

namespace lantern {
namespace {

using kit::Bytes;
using kit::FatBuilder;
using Codes = std::vector<std::string>;
using Width = FatBuilder::Width;

std::shared_ptr<const FileSystem> open(const FatBuilder& volume, const Context& context) {
  return open_file_system(make_memory_source(const_cast<FatBuilder&>(volume).bytes()), {}, context);
}

std::string path_of(const Entry& entry) {
  std::string path;
  for (const std::string& name : entry.path) path += "/" + name;
  return path + (entry.kind == EntryKind::folder ? "/" : "");
}

// "active /log.txt" and so on, in the order of the walk.
Codes listing(const FileSystem& files, bool deleted = true) {
  Codes lines;
  WalkOptions options;
  options.deleted = deleted;
  files.walk(options, [&](const Entry& entry) {
    lines.push_back(std::string(to_string(entry.state)) + " " + path_of(entry));
    return WalkStep::go_on;
  });
  return lines;
}

Entry only(const FileSystem& files, const std::vector<std::string>& path) {
  const auto found = files.find(path);
  EXPECT_EQ(found.size(), 1u);
  return found.at(0);
}

Bytes content(const FileSystem& files, const Entry& entry) {
  return kit::read_all(*files.open(entry).bytes);
}

class FatWidths : public ::testing::TestWithParam<Width> {};
INSTANTIATE_TEST_SUITE_P(All, FatWidths,
                         ::testing::Values(Width::fat12, Width::fat16, Width::fat32));

TEST_P(FatWidths, FilesInPiecesComeBackByteForByte) {
  FatBuilder volume(GetParam());
  const Bytes log = kit::pattern(2'000, 1);
  const Bytes count = kit::pattern(512 * 3, 2);
  const std::uint32_t far = volume.cluster_count() + 1;  // the last cluster
  volume.folder(0, "Keeper", {10});
  volume.file(10, "log of the long winter.txt", log, {30, 20, 40, far});
  volume.file(0, "Nest counts.csv", count, {21, 22, 50});
  volume.file(0, "empty", {}, {});
  volume.label("SKERROW    ");
  const Context context;
  const auto files = open(volume, context);
  ASSERT_TRUE(files);
  EXPECT_EQ(files->facts().label, "SKERROW");
  EXPECT_EQ(files->facts().uuid, "1A2B-3C4D");
  EXPECT_EQ(listing(*files), (Codes{"active /Keeper/", "active /Keeper/log of the long winter.txt",
                                    "active /Nest counts.csv", "active /empty"}));
  EXPECT_EQ(content(*files, only(*files, {"keeper", "LOG of the long winter.TXT"})), log);
  EXPECT_EQ(content(*files, only(*files, {"Nest counts.csv"})), count);
  EXPECT_EQ(content(*files, only(*files, {"empty"})), Bytes{});
  const std::uint64_t root_clusters = GetParam() == Width::fat32 ? 1 : 0;
  EXPECT_EQ(files->used_bytes(), (8 + root_clusters) * 512);
  EXPECT_EQ(kit::codes(context), Codes{});
}

TEST_P(FatWidths, ADeletedFileInOnePieceIsWholeUnderItsLongName) {
  FatBuilder volume(GetParam());
  const Bytes photo = kit::pattern(1'800, 3);
  const auto slot = volume.file(0, "Gannet colony from the gallery.jpg", photo, {60, 61, 62, 63});
  volume.remove(slot, {60, 61, 62, 63});
  const auto files = open(volume, Context());
  const Entry entry = only(*files, {"Gannet colony from the gallery.jpg"});
  EXPECT_EQ(entry.state, EntryState::deleted);
  EXPECT_EQ(entry.intact, 1);
  EXPECT_EQ(entry.id, std::to_string(slot));
  EXPECT_EQ(entry.evidence,
            "long name, its first character by checksum; clusters by the one-run rule: free ones "
            "from its first on");
  EXPECT_EQ(content(*files, entry), photo);
  EXPECT_TRUE(files->open(entry).lost.empty());
}

TEST_P(FatWidths, ADeletedTreeKeepsItsNames) {
  FatBuilder volume(GetParam());
  const auto top = volume.folder(0, "Old station", {70});
  const auto inner = volume.folder(70, "Radio", {71});
  const Bytes tides = kit::pattern(700, 5);
  const auto file = volume.file(71, "Frequencies and tides.csv", tides, {72, 73});
  volume.remove(file, {72, 73});
  volume.remove(inner, {71});
  volume.remove(top, {70});
  const auto files = open(volume, Context());
  EXPECT_EQ(listing(*files), (Codes{"deleted /Old station/", "deleted /Old station/Radio/",
                                    "deleted /Old station/Radio/Frequencies and tides.csv"}));
  EXPECT_EQ(listing(*files, false), Codes{});
  const Entry entry = only(*files, {"Old station", "Radio", "Frequencies and tides.csv"});
  EXPECT_EQ(entry.intact, 1);
  EXPECT_EQ(content(*files, entry), tides);
}

TEST(Fat, EntriesLeftActiveInADeletedFolderAreDeleted) {
  FatBuilder volume(Width::fat16);
  const auto top = volume.folder(0, "Old station", {70});
  volume.file(70, "diary.txt", kit::pattern(100, 1), {71});
  volume.remove(top, {70});
  volume.link(71, 0);
  EXPECT_EQ(listing(*open(volume, Context())),
            (Codes{"deleted /Old station/", "deleted /Old station/diary.txt"}));
}

TEST(Fat, TheShortNameLosesItsFirstCharacterWithoutALongOne) {
  FatBuilder volume(Width::fat16);
  FatBuilder::FileOptions options;
  options.long_name = false;
  options.short_name = "TIDES   CSV";
  volume.remove(volume.file(0, "", kit::pattern(10, 1), {5}, options), {5});
  const auto files = open(volume, Context());
  EXPECT_EQ(listing(*files), (Codes{"deleted /_IDES.CSV"}));
  EXPECT_EQ(only(*files, {"_IDES.CSV"}).evidence.substr(0, 39),
            "short name, its first character is lost");
}

TEST(Fat, ALongNameWhoseLastPartIsOverwrittenSaysSo) {
  FatBuilder volume(Width::fat16);
  const auto slot = volume.file(0, "Relief boat at the landing.txt", kit::pattern(10, 1), {5});
  volume.remove(slot, {5});
  kit::put(volume.bytes(), slot - 3 * 32 + 13, 0x77, 1);  // no part of it any more
  const auto files = open(volume, Context());
  EXPECT_EQ(listing(*files), (Codes{"deleted /Relief boat at the landing~.TXT"}));
}

TEST(Fat, ShortNamesFollowTheCodePageAndCaseFlags) {
  FatBuilder volume(Width::fat16);
  FatBuilder::FileOptions options;
  options.long_name = false;
  options.short_name = "\x9Bl      TXT";  // CP850: o with stroke
  volume.file(0, "", {}, {}, options);
  options.short_name = "LOG     TXT";
  kit::put(volume.bytes(), volume.file(0, "", {}, {}, options) + 12, 0x08 | 0x10, 1);
  options.short_name =
      "\x05"
      "BC        ";  // stands for E5
  volume.file(0, "", {}, {}, options);
  FileSystemOptions as_850;
  as_850.code_page = "850";
  const auto files = open_file_system(make_memory_source(volume.bytes()), as_850, Context());
  EXPECT_EQ(listing(*files), (Codes{"active /\xC3\xB8l.TXT", "active /log.txt",
                                    "active /\xC3\x95"
                                    "BC"}));
  as_850.code_page = "no such page";
  EXPECT_THROW(open_file_system(make_memory_source(volume.bytes()), as_850, Context()), Error);
}

TEST(Fat, TimesKeepTheirTenMilliseconds) {
  FatBuilder volume(Width::fat12);
  FatBuilder::FileOptions options;
  options.hundredths = 137;
  volume.file(0, "log.txt", {}, {}, options);
  options.date = 0;
  volume.file(0, "undated", {}, {}, options);
  const auto files = open(volume, Context());
  const Entry log = only(*files, {"log.txt"});
  EXPECT_EQ(to_iso8601(*log.created), "2026-03-14T08:30:03.37");
  EXPECT_EQ(to_iso8601(*log.modified), "2026-03-14T08:30:02");
  EXPECT_EQ(log.accessed->resolution_ns, 86'400'000'000'000u);
  EXPECT_EQ(log.attributes, "a");
  EXPECT_FALSE(only(*files, {"undated"}).modified);
}

TEST(Fat, OverwrittenClustersAreLostInTheirPlace) {
  FatBuilder volume(Width::fat16);
  const Bytes old = kit::pattern(512 * 4, 1);
  const auto slot = volume.file(0, "old log.txt", old, {10, 11, 12, 13});
  volume.remove(slot, {10, 11, 12, 13});
  volume.file(0, "new log.txt", kit::pattern(512 * 2, 2), {10, 11});
  const auto files = open(volume, Context());
  const Entry entry = only(*files, {"old log.txt"});
  EXPECT_EQ(entry.intact, 0.5);
  const Content got = files->open(entry);
  EXPECT_EQ(got.lost, (std::vector<Range>{{0, 1024}}));
  Bytes expected = old;
  std::fill_n(expected.begin(), 1024, std::byte{0});
  EXPECT_EQ(kit::read_all(*got.bytes), expected);
}

TEST(Fat, BehindAClusterInUseTheNextFreeOnesAreTakenInDoubt) {
  FatBuilder volume(Width::fat16);
  const Bytes old = kit::pattern(512 * 3, 1);
  volume.file(0, "between.txt", kit::pattern(512, 2), {11});
  const auto slot = volume.file(0, "around it.txt", old, {10, 12, 13});
  volume.remove(slot, {10, 12, 13});
  const auto files = open(volume, Context());
  const Entry entry = only(*files, {"around it.txt"});
  EXPECT_EQ(content(*files, entry), old);
  EXPECT_DOUBLE_EQ(*entry.intact, (512 + 0.5 * 1024) / 1536);
  EXPECT_EQ(files->open(entry).doubtful, (std::vector<Range>{{512, 1024}}));
  EXPECT_NE(entry.evidence.find("next-free rule"), std::string::npos);
}

TEST(Fat, AFolderClusterIsNeverTakenForAFile) {
  FatBuilder volume(Width::fat16);
  const Bytes old = kit::pattern(512 * 2, 1);
  const auto folder = volume.folder(0, "Radio", {11});
  volume.remove(folder, {11});
  const auto slot = volume.file(0, "around it.txt", old, {10, 12});
  volume.remove(slot, {10, 12});
  const auto files = open(volume, Context());
  EXPECT_EQ(content(*files, only(*files, {"around it.txt"})), old);
  EXPECT_LT(*only(*files, {"around it.txt"}).intact, 1);
}

TEST(Fat, TwoDeletedClaimantsOfAClusterAreNeverBothWhole) {
  FatBuilder volume(Width::fat16);
  const auto first = volume.file(0, "first.txt", kit::pattern(512 * 3, 1), {10, 11, 12});
  volume.remove(first, {10, 11, 12});
  const Bytes later = kit::pattern(512, 2);
  const auto second = volume.file(0, "second.txt", later, {12});
  volume.remove(second, {12});
  const auto files = open(volume, Context());
  EXPECT_LT(*only(*files, {"first.txt"}).intact, 1);
  EXPECT_LT(*only(*files, {"second.txt"}).intact, 1);
  EXPECT_EQ(content(*files, only(*files, {"second.txt"})), later)
      << "in doubt, yet given as it lies";
}

TEST(Fat, TracesOfLostEntriesTakeTheProofAway) {
  FatBuilder volume(Width::fat16);
  const auto slot = volume.file(0, "log.txt", kit::pattern(700, 1), {10, 11});
  volume.remove(slot, {10, 11});
  EXPECT_EQ(only(*open(volume, Context()), {"log.txt"}).intact, 1);
  FatBuilder behind = volume;  // a longer file has ended here since
  kit::put_bytes(behind.bytes(), behind.cluster_offset(11) + 188, kit::pattern(50, 9));
  EXPECT_DOUBLE_EQ(*only(*open(behind, Context()), {"log.txt"}).intact, 0.99);
  FatBuilder beside = volume;  // nobody claims what lies in the next cluster
  kit::put_bytes(beside.bytes(), beside.cluster_offset(12), kit::pattern(50, 9));
  EXPECT_DOUBLE_EQ(*only(*open(beside, Context()), {"log.txt"}).intact, 0.99);
}

TEST(Fat, AChainLeftStandingIsFollowed) {
  FatBuilder volume(Width::fat16);
  const Bytes old = kit::pattern(512 * 3, 1);
  const auto slot = volume.file(0, "log.txt", old, {10, 40, 20});
  volume.remove(slot, {});
  const auto files = open(volume, Context());
  const Entry entry = only(*files, {"log.txt"});
  EXPECT_EQ(entry.intact, 1);
  EXPECT_EQ(content(*files, entry), old);
  EXPECT_NE(entry.evidence.find("which the table still holds"), std::string::npos);
}

TEST(Fat, AWipedHighHalfIsWorkedOut) {
  FatBuilder volume(Width::fat32);
  const std::uint32_t high = 0x10000 + 300;
  const Bytes photo = kit::patched(kit::pattern(1'200, 1), {{0, {0xFF, 0xD8, 0xFF}}});
  // At the same low half lies the text of another deleted file.
  volume.remove(volume.file(0, "notes.txt", kit::bytes_of(std::string(1'000, 'n')), {300, 301}),
                {300, 301}, true);
  volume.remove(volume.file(0, "lamp.jpg", photo, {high, high + 1, high + 2}),
                {high, high + 1, high + 2}, true);
  const auto top = volume.folder(0, "Photographs", {0x10000 + 500});
  const auto in =
      volume.file(0x10000 + 500, "boat.jpg", photo, {0x10000 + 600, 0x10000 + 601, 0x10000 + 602});
  volume.remove(in, {0x10000 + 600, 0x10000 + 601, 0x10000 + 602}, true);
  volume.remove(top, {0x10000 + 500}, true);
  const auto files = open(volume, Context());
  EXPECT_EQ(content(*files, only(*files, {"lamp.jpg"})), photo);
  EXPECT_LT(*only(*files, {"lamp.jpg"}).intact, 1) << "worked out, not known";
  EXPECT_EQ(content(*files, only(*files, {"Photographs", "boat.jpg"})), photo);
  EXPECT_EQ(content(*files, only(*files, {"notes.txt"})), kit::bytes_of(std::string(1'000, 'n')));
}

TEST(Fat, ADeletedFolderGoesOnInTheClusterShapedLikeIt) {
  FatBuilder volume(Width::fat16);
  const auto top = volume.folder(0, "Nest counts", {10, 40});
  std::vector<std::pair<std::uint64_t, std::uint32_t>> slots;
  for (std::uint32_t i = 0; i < 12; ++i)
    slots.emplace_back(
        volume.file(10, "count " + std::to_string(2010 + i), kit::pattern(300, i), {11 + i}),
        11 + i);
  for (const auto& [slot, cluster] : slots) volume.remove(slot, {cluster});
  volume.remove(top, {10, 40});
  const auto files = open(volume, Context());
  EXPECT_EQ(listing(*files).size(), 13u);
  EXPECT_EQ(content(*files, only(*files, {"Nest counts", "count 2021"})), kit::pattern(300, 11));
}

TEST(Fat, ANameCutByTheEndOfAClusterFindsItsOtherHalf) {
  FatBuilder volume(Width::fat16);
  std::vector<std::pair<std::uint64_t, FatBuilder::Clusters>> made;
  std::uint32_t next = 100;
  const auto fill = [&](const std::string& name, const FatBuilder::Clusters& clusters, bool odd) {
    const auto folder = volume.folder(0, name, clusters);
    for (int i = 0; i < 9; ++i, ++next) {
      const std::string file =
          name + " " + std::to_string(i) + (odd && i == 0 ? " of the north" : "");
      made.emplace_back(volume.file(clusters[0], file, kit::pattern(300, next), {next}),
                        FatBuilder::Clusters{next});
    }
    made.emplace_back(folder, clusters);
  };
  fill("count", {10, 40}, true);   // slots 3 + 8 * 2: one name stands on both sides of the border
  fill("other", {20, 30}, false);  // its second cluster lies nearer
  for (const auto& [slot, clusters] : made) volume.remove(slot, clusters);
  const auto files = open(volume, Context());
  for (int i = 0; i < 9; ++i)
    EXPECT_EQ(files->find({"other", "other " + std::to_string(i)}).size(), 1u) << i;
  for (int i = 1; i < 9; ++i)
    EXPECT_EQ(files->find({"count", "count " + std::to_string(i)}).size(), 1u) << i;
}

TEST(Fat, TablesThatDifferAreReadWhereTheyMakeSense) {
  for (const Width width : {Width::fat12, Width::fat16, Width::fat32}) {
    FatBuilder volume(width);
    const Bytes log = kit::pattern(2'000, 1);
    volume.file(0, "log.txt", log, {30, 20, 40, 50});
    for (const int value : {0x00, 0xF6}) {  // wiped, and overwritten by garbage
      FatBuilder damaged = volume;
      std::fill_n(
          damaged.bytes().begin() + static_cast<std::ptrdiff_t>(damaged.table_offset(0)) + 12, 400,
          static_cast<std::byte>(value));
      const Context context;
      const auto files = open(damaged, context);
      EXPECT_EQ(content(*files, only(*files, {"log.txt"})), log);
      EXPECT_EQ(only(*files, {"log.txt"}).intact, 1);
      EXPECT_EQ(kit::codes(context).at(0).substr(0, 18), "fat.copies-differ@");
    }
  }
}

TEST(Fat, WithBothTablesWipedFilesAreLaidInOneRun) {
  FatBuilder volume(Width::fat16);
  const Bytes log = kit::pattern(2'000, 1);
  volume.file(0, "log.txt", log, {30, 31, 32, 33});
  volume.file(0, "next.txt", log, {34, 35, 36, 37});
  for (std::uint32_t c = 30; c < 38; ++c) volume.link(c, 0);
  const Context context;
  const auto files = open(volume, context);
  EXPECT_EQ(content(*files, only(*files, {"log.txt"})), log);
  EXPECT_EQ(content(*files, only(*files, {"next.txt"})), log);
  EXPECT_NE(only(*files, {"log.txt"}).evidence.find("its chain is broken"), std::string::npos);
  EXPECT_EQ(kit::codes(context).at(0).substr(0, 16), "fat.chain-broken");
}

TEST(Fat, ChainsThatLoopOrCrossAreFindings) {
  FatBuilder volume(Width::fat16);
  volume.file(0, "loop.txt", kit::pattern(512 * 6, 1), {10, 11, 12});
  volume.link(12, 11);
  volume.file(0, "a.txt", kit::pattern(1'024, 2), {20, 21});
  volume.file(0, "b.txt", kit::pattern(1'024, 3), {30, 31});
  volume.link(30, 21);
  const Context context;
  const auto files = open(volume, context);
  for (const char* name : {"loop.txt", "a.txt", "b.txt"})
    EXPECT_LT(*only(*files, {name}).intact, 1) << name;
  Codes found;
  for (const std::string& code : kit::codes(context))
    found.push_back(code.substr(0, code.find('@')));
  EXPECT_EQ(found, (Codes{"fat.chain-loop", "fat.cross-linked"}));
  EXPECT_EQ(content(*files, only(*files, {"loop.txt"})).size(), 512u * 6);
}

TEST(Fat, AFolderThatContainsItselfIsEnteredOnce) {
  FatBuilder volume(Width::fat16);
  volume.folder(0, "Keeper", {10});
  volume.file(10, "log.txt", {}, {});
  FatBuilder::FileOptions options;
  options.attributes = 0x10;
  const auto slot = volume.file(10, "again", {}, {}, options);
  kit::put(volume.bytes(), slot + 26, 10, 2);
  const Context context;
  EXPECT_EQ(listing(*open(volume, context)),
            (Codes{"active /Keeper/", "active /Keeper/log.txt", "active /Keeper/again/"}));
  EXPECT_EQ(kit::codes(context).size(), 2u);
  EXPECT_TRUE(kit::codes(context)[1].starts_with("fat.folder-loop@"));
}

TEST(Fat, ASizeThatIsALieCostsNoMemoryAndTheFileIsShort) {
  FatBuilder volume(Width::fat16);
  FatBuilder::FileOptions options;
  options.size_lie = 0xFFFFFFFF;
  volume.file(0, "lie.txt", kit::pattern(500, 1), {10}, options);
  const Context context;
  const auto files = open(volume, context);
  const Entry entry = only(*files, {"lie.txt"});
  EXPECT_EQ(entry.size_bytes, 0xFFFFFFFFu);
  EXPECT_LT(*entry.intact, 0.001);
  EXPECT_TRUE(kit::codes(context).at(0).starts_with("fat.chain-short@"));
}

TEST(Fat, TheSpareBootSectorIsUsed) {
  FatBuilder volume(Width::fat32);
  const Bytes log = kit::pattern(600, 1);
  volume.file(0, "log.txt", log, {30, 31});
  std::fill_n(volume.bytes().begin(), 512, std::byte{0});
  const Context context;
  const auto files = open(volume, context);
  ASSERT_TRUE(files);
  EXPECT_EQ(content(*files, only(*files, {"log.txt"})), log);
  EXPECT_EQ(kit::codes(context), Codes{"fat.boot-sector@0"});
}

TEST(Fat, ACutVolumeGivesWhatIsThere) {
  FatBuilder volume(Width::fat16);
  const Bytes log = kit::pattern(1'000, 1);
  volume.file(0, "near.txt", log, {30, 31});
  volume.file(0, "cut.txt", log, {100, 4'000});
  volume.bytes().resize(volume.cluster_offset(2'000));
  const Context context;
  const auto files = open(volume, context);
  EXPECT_EQ(only(*files, {"near.txt"}).intact, 1);
  EXPECT_DOUBLE_EQ(*only(*files, {"cut.txt"}).intact, 0.512);
  EXPECT_EQ(files->open(only(*files, {"cut.txt"})).lost, (std::vector<Range>{{512, 488}}));
  EXPECT_TRUE(kit::codes(context).at(0).starts_with("fat.volume-size@"));
}

TEST(Fat, HostileNamesStayNames) {
  FatBuilder volume(Width::fat16);
  const std::vector<std::string> names = {"../../up.txt", "a\nb", "esc\x1b[31m",
                                          std::string(250, 'w')};
  for (const std::string& name : names) volume.file(0, name, kit::pattern(10, 1), {});
  const auto files = open(volume, Context());
  for (const std::string& name : names) EXPECT_EQ(only(*files, {name}).path.back(), name);
}

TEST(Fat, FindsByIdAndKeepsEntriesOfOnePathApart) {
  FatBuilder volume(Width::fat16);
  const auto one = volume.file(0, "log.txt", kit::pattern(10, 1), {10});
  volume.remove(one, {10});
  const auto two = volume.file(0, "log.txt", kit::pattern(10, 2), {11});
  const auto files = open(volume, Context());
  const auto both = files->find({"log.txt"});
  ASSERT_EQ(both.size(), 2u);
  EXPECT_EQ(both[0].id, std::to_string(two)) << "the active one first";
  EXPECT_EQ(both[1].id, std::to_string(one));
  EXPECT_EQ(content(*files, *files->entry(std::to_string(one))), kit::pattern(10, 1));
  EXPECT_FALSE(files->entry("7"));
  EXPECT_FALSE(files->entry("x"));
}

TEST(Fat, WalksOneFolderAndOneLevel) {
  FatBuilder volume(Width::fat16);
  volume.folder(0, "Keeper", {10});
  volume.folder(10, "Logs", {11});
  volume.file(11, "log.txt", {}, {});
  volume.file(0, "other.txt", {}, {});
  const auto files = open(volume, Context());
  const auto walk = [&](std::vector<std::string> under, std::uint32_t depth) {
    WalkOptions options;
    options.under = std::move(under);
    options.max_depth = depth;
    Codes found;
    files->walk(options, [&](const Entry& e) {
      found.push_back(path_of(e));
      return WalkStep::go_on;
    });
    return found;
  };
  EXPECT_EQ(walk({}, 1), (Codes{"/Keeper/", "/other.txt"}));
  EXPECT_EQ(walk({}, 2), (Codes{"/Keeper/", "/Keeper/Logs/", "/other.txt"}));
  EXPECT_EQ(walk({"KEEPER"}, 1), (Codes{"/Keeper/Logs/"}));
  EXPECT_EQ(walk({"Keeper"}, 9), (Codes{"/Keeper/Logs/", "/Keeper/Logs/log.txt"}));
  EXPECT_EQ(walk({"absent"}, 9), Codes{});
}

TEST(Fat, ManyThreadsAskAtOnce) {
  FatBuilder volume(Width::fat16);
  volume.folder(0, "Keeper", {10, 11});
  for (std::uint32_t i = 0; i < 8; ++i)
    volume.file(10, "log " + std::to_string(i), kit::pattern(900, i), {20 + 2 * i, 21 + 2 * i});
  volume.remove(volume.file(0, "gone.txt", kit::pattern(700, 9), {60, 61}), {60, 61});
  const auto files = open(volume, Context());
  std::atomic<int> wrong{0};
  std::vector<std::thread> threads;
  for (int t = 0; t < 4; ++t)
    threads.emplace_back([&] {
      for (std::uint32_t i = 0; i < 8; ++i) {
        if (listing(*files).size() != 10) ++wrong;
        const auto found = files->find({"Keeper", "log " + std::to_string(i)});
        if (content(*files, found.at(0)) != kit::pattern(900, i)) ++wrong;
      }
    });
  for (std::thread& thread : threads) thread.join();
  EXPECT_EQ(wrong, 0);
}

TEST(Fat, WhatIsNoFatIsNotOpened) {
  const Context context;
  for (const std::size_t size : {1u, 511u, 512u, 100'000u}) {
    EXPECT_FALSE(open_file_system(make_memory_source(Bytes(size)), {}, context));
    EXPECT_FALSE(open_file_system(make_memory_source(kit::pattern(size, 7)), {}, context));
  }
  EXPECT_EQ(kit::codes(context), Codes{});
}

}  // namespace
}  // namespace lantern
