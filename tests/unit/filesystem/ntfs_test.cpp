#include "filesystem/ntfs/ntfs.h"

#include <gtest/gtest.h>

#include <map>

#include "filesystem/ntfs/packing/lznt1.h"
#include "filesystem/ntfs/volume.h"
#include "kit/ntfs_case.h"
#include "kit/thinned.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using kit::Bytes;
using kit::NtfsBuilder;

constexpr std::uint64_t kSecond = 10'000'000;
constexpr std::uint64_t kRoot = NtfsBuilder::kRoot;
constexpr std::uint64_t kNow = NtfsBuilder::kNow;

class Ntfs : public kit::NtfsCase {};

TEST_F(Ntfs, NamesItselfAndHidesItsOwnFilesUntilTheyAreAskedFor) {
  volume_.file(30, kRoot, "tide.bin", 120, kit::pattern(5000, 1));
  const auto files = open();
  ASSERT_TRUE(files);
  EXPECT_EQ(files->facts().label, "Skerrow");
  EXPECT_EQ(files->facts().uuid, "1122334455667788");
  EXPECT_EQ(all(*files).size(), 1u);
  EXPECT_EQ(files->find({"$MFT"}).size(), 1u);
  EXPECT_EQ(files->used_bytes(), (1 + 4 + NtfsBuilder::kRecords + 1 + 5) * NtfsBuilder::kCluster);
  EXPECT_TRUE(context_.findings->all().empty());
}

TEST_F(Ntfs, TheCopyOfTheBootSectorAndTheMirrorOfTheTableAreUsed) {
  volume_.small(30, kRoot, "log.txt", kit::bytes_of("two eggs"));
  Bytes bytes = volume_.bytes();
  std::fill_n(bytes.begin(), 512, std::byte{0});
  std::fill_n(bytes.begin() + static_cast<std::ptrdiff_t>(NtfsBuilder::record_at(0)), 1024,
              std::byte{0});
  const auto files = open(bytes);
  ASSERT_TRUE(files);
  EXPECT_EQ(all(*files).size(), 1u);
  const auto codes = kit::codes(context_);
  EXPECT_EQ(codes.at(0), "ntfs.boot-sector@0");
  EXPECT_EQ(codes.at(1), "ntfs.table@8192");
}

TEST_F(Ntfs, WithoutTableAndMirrorItSaysSo) {
  Bytes bytes = volume_.bytes();
  for (const std::size_t at : {NtfsBuilder::record_at(0), NtfsBuilder::kMirror * std::size_t{1024}})
    bytes[at] = std::byte{0};
  EXPECT_FALSE(open(bytes));
  EXPECT_EQ(kit::codes(context_).at(0), "ntfs.table@8192");
}

TEST_F(Ntfs, ATornRecordIsReadAndSaid) {
  volume_.small(30, kRoot, "log.txt", kit::bytes_of("two eggs"));
  Bytes bytes = volume_.bytes();
  bytes[NtfsBuilder::record_at(30) + 1022] = std::byte{0x55};
  const auto files = open(bytes);
  const auto found = all(*files);
  ASSERT_TRUE(found.contains("/log.txt"));
  EXPECT_EQ(found.at("/log.txt").intact, 0.5);
  EXPECT_EQ(kit::codes(context_).at(0), "ntfs.record@38912");
}

TEST_F(Ntfs, StreamsHaveNamesAndAreReadByThem) {
  volume_.record(30, 1, 1,
                 {standard(), named("log.txt"), NtfsBuilder::resident(0x80, kit::bytes_of("main")),
                  NtfsBuilder::resident(0x80, kit::bytes_of("beside"), "note")});
  const auto files = open();
  const Entry entry = all(*files).at("/log.txt");
  ASSERT_EQ(files->streams(entry).size(), 1u);
  EXPECT_EQ(files->streams(entry)[0].name, "note");
  EXPECT_EQ(files->streams(entry)[0].size_bytes, 6u);
  EXPECT_EQ(kit::text_of(kit::read_all(*files->open(entry, "note").bytes)), "beside");
  EXPECT_EQ(kit::text_of(kit::read_all(*files->open(entry).bytes)), "main");
  EXPECT_THROW(files->open(entry, "other"), Error);
}

TEST_F(Ntfs, HardLinksAreEntriesOfTheirOwnAndShortNamesAreNot) {
  volume_.folder(40, kRoot, "Keeper");
  volume_.record(
      30, 1, 1,
      {standard(), named("long name.txt"), NtfsBuilder::name(kRoot, 5, "LONGNA~1.TXT", kNow, 2),
       named("second", 40, 1), NtfsBuilder::resident(0x80, kit::bytes_of("x"))});
  const auto files = open();
  const auto found = all(*files);
  EXPECT_EQ(found.size(), 3u);
  EXPECT_NE(found.at("/long name.txt").id, found.at("/Keeper/second").id);
  EXPECT_EQ(files->find({"LONG NAME.TXT"}).size(), 1u) << "names of any case";
}

TEST_F(Ntfs, RunsOfManyRecordsAreOneFile) {
  const Bytes content = kit::pattern(4 * 1024, 1);
  for (std::size_t i = 0; i < 4; ++i)
    volume_.write(static_cast<std::uint32_t>(120 + 2 * i),
                  {content.begin() + static_cast<std::ptrdiff_t>(i * 1024),
                   content.begin() + static_cast<std::ptrdiff_t>((i + 1) * 1024)});
  Bytes list;
  for (std::uint64_t i = 0; i < 4; ++i)
    kit::put_bytes(list, list.size(), NtfsBuilder::list_entry(0x80, i, 31 + i, 1));
  volume_.record(30, 1, 1, {standard(), NtfsBuilder::resident(0x20, list), named("tide.bin")});
  for (std::uint64_t i = 0; i < 4; ++i)
    volume_.record(31 + i, 1, 1,
                   {NtfsBuilder::stored(0x80, {{static_cast<std::int64_t>(120 + 2 * i), 1}},
                                        4 * 1024, {}, 0, i)},
                   30, 1);
  auto files = open();
  EXPECT_EQ(kit::read_all(*files->open(all(*files).at("/tide.bin")).bytes), content);

  // One of them is another's now: its part is lost, the rest is read.
  volume_.small(33, kRoot, "other", {});
  files = open();
  const Entry entry = all(*files).at("/tide.bin");
  EXPECT_EQ(entry.intact, 0.75);
  const Content left = files->open(entry);
  ASSERT_EQ(left.lost.size(), 1u);
  EXPECT_EQ(left.lost[0], (Range{2048, 1024}));
}

TEST_F(Ntfs, AListThatNamesItselfOrNobodyEnds) {
  Bytes list;
  for (const std::uint64_t record : {30ull, 30ull, 63ull, 0xFFFFFFFFFFull})
    kit::put_bytes(list, list.size(), NtfsBuilder::list_entry(0x80, 0, record, 1));
  volume_.record(30, 1, 1, {standard(), NtfsBuilder::resident(0x20, list), named("tide.bin")});
  const auto found = all(*open());
  EXPECT_EQ(found.at("/tide.bin").intact, 0);
  EXPECT_NE(found.at("/tide.bin").evidence.find("another's now"), std::string::npos);
}

TEST_F(Ntfs, RunsThatPointOutsideEndTheirList) {
  std::vector<ntfs::Run> runs;
  const auto list = [&](std::initializer_list<int> bytes) {
    Bytes raw;
    for (const int byte : bytes) raw.push_back(static_cast<std::byte>(byte));
    runs.clear();
    ntfs::add_runs(raw, 0, 400, runs);
    return runs.size();
  };
  EXPECT_EQ(list({0x11, 4, 10, 0x11, 2, 0xFE, 0}), 2u);
  EXPECT_EQ(runs[1].lcn, 8u) << "a step back";
  EXPECT_EQ(list({0x01, 4, 0x11, 2, 5, 0}), 2u);
  EXPECT_TRUE(runs[0].hole);
  EXPECT_EQ(list({0x11, 4, 10, 0x21, 4, 0xFF, 0x7F, 0}), 1u) << "past the end";
  EXPECT_EQ(list({0x11, 4, 0x80, 0}), 0u) << "before the start";
  EXPECT_EQ(list({0x21, 0xFF}), 0u) << "cut";
  EXPECT_EQ(list({0x11, 0, 10, 0}), 0u) << "of nothing";
  EXPECT_EQ(list({0x81, 1, 1, 0, 0, 0, 0, 0, 0, 0x80, 0}), 0u);
  EXPECT_EQ(list({0x18, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 1, 0}), 0u);
}

TEST_F(Ntfs, SparseAndUnwrittenPartsAreZero) {
  volume_.write(120, kit::pattern(1024, 1));
  volume_.record(
      30, 1, 1,
      {standard(), named("holes.bin"),
       NtfsBuilder::stored(0x80, {{NtfsBuilder::kHole, 2}, {120, 1}}, 3000, {}, 0x8000)});
  Bytes unwritten = NtfsBuilder::stored(0x80, {{120, 1}}, 1000);
  kit::put(unwritten, 0x38, 400, 8);
  volume_.record(31, 1, 1, {standard(), named("begun.bin"), unwritten});
  const auto files = open();
  const auto found = all(*files);
  Bytes expected(2048);
  const Bytes data = kit::pattern(1024, 1);
  expected.insert(expected.end(), data.begin(), data.begin() + 952);
  EXPECT_EQ(kit::read_all(*files->open(found.at("/holes.bin")).bytes), expected);
  Bytes begun(data.begin(), data.begin() + 400);
  begun.resize(1000);
  EXPECT_EQ(kit::read_all(*files->open(found.at("/begun.bin")).bytes), begun);
}

// [MS-XCA] 3.3.
TEST(Lznt1, TheExampleOfItsSpecification) {
  Bytes packed;
  for (const int byte :
       {0x38, 0xb0, 0x88, 0x46, 0x23, 0x20, 0x00, 0x20, 0x47, 0x20, 0x41, 0x00, 0x10, 0xa2, 0x47,
        0x01, 0xa0, 0x45, 0x20, 0x44, 0x00, 0x08, 0x45, 0x01, 0x50, 0x79, 0x00, 0xc0, 0x45, 0x20,
        0x05, 0x24, 0x13, 0x88, 0x05, 0xb4, 0x02, 0x4a, 0x44, 0xef, 0x03, 0x58, 0x02, 0x8c, 0x09,
        0x16, 0x01, 0x48, 0x45, 0x00, 0xbe, 0x00, 0x9e, 0x00, 0x04, 0x01, 0x18, 0x90, 0x00})
    packed.push_back(static_cast<std::byte>(byte));
  Bytes out(200);
  out.resize(ntfs::unpack_lznt1(packed, out));
  EXPECT_EQ(kit::text_of(out),
            std::string("F# F# G A A G F# E D D E F# F# E E F# F# G A A G F# E D D E F# E D D E E "
                        "F# D E F# G F# D E F# G F# E D E A F# F# G A A G F# E D D E F# E D D\0",
                        142));
}

TEST(Lznt1, AnyBytesEndWithinTheirBounds) {
  for (std::uint32_t seed = 0; seed < 2'000; ++seed) {
    Bytes packed = kit::pattern(300, seed);
    packed[1] = std::byte{0xB1};  // a packed chunk of what follows
    Bytes out(1000);
    EXPECT_LE(ntfs::unpack_lznt1(packed, out), out.size());
  }
}

TEST_F(Ntfs, APackedUnitIsUnpackedAndNoMoreThanIt) {
  Bytes packed;
  // "abc", then twelve bits of length: as far as it goes.
  for (const int byte : {0x05, 0xB0, 0x08, 0x61, 0x62, 0x63, 0xFF, 0x2F, 0, 0})
    packed.push_back(static_cast<std::byte>(byte));
  volume_.write(120, packed);
  volume_.record(
      30, 1, 1,
      {standard(), named("packed"),
       NtfsBuilder::stored(0x80, {{120, 1}, {NtfsBuilder::kHole, 3}}, 4000, {}, 1, 0, 2)});
  const auto files = open();
  const Bytes content = kit::read_all(*files->open(all(*files).at("/packed")).bytes);
  ASSERT_EQ(content.size(), 4000u);
  for (std::size_t i = 0; i < content.size(); ++i)
    ASSERT_EQ(static_cast<char>(content[i]), "abc"[i % 3]) << i;
  EXPECT_EQ(all(*files).at("/packed").attributes, "ac");
}

TEST_F(Ntfs, LinksNameWhatTheyLeadTo) {
  const Bytes link =
      kit::bytes_of(std::string("\x0C\0\0\xA0\x10\0\0\0\0\0\4\0\0\0\4\0\0\0\0\0a\0\\\0", 24));
  volume_.record(30, 1, 1, {standard(), named("link"), NtfsBuilder::resident(0xC0, link)});
  Bytes wrong = link;
  kit::put(wrong, 0x0A, 0xFFFF, 2);
  kit::put(wrong, 0x0C, 0xFFFF, 2);
  volume_.record(31, 1, 1, {standard(), named("broken"), NtfsBuilder::resident(0xC0, wrong)});
  const auto files = open();
  const auto found = all(*files);
  EXPECT_EQ(found.at("/link").kind, EntryKind::symlink);
  EXPECT_EQ(kit::text_of(kit::read_all(*files->open(found.at("/link")).bytes)), "a/");
  EXPECT_EQ(found.at("/broken").kind, EntryKind::file);
}

TEST_F(Ntfs, AnEncryptedFileIsNamedAndNotOpened) {
  volume_.record(
      30, 1, 1,
      {standard(), named("secret"), NtfsBuilder::stored(0x80, {{120, 1}}, 1000, {}, 0x4000)});
  const auto files = open();
  const Entry entry = all(*files).at("/secret");
  EXPECT_EQ(entry.attributes, "ae");
  try {
    files->open(entry);
    ADD_FAILURE();
  } catch (const Error& error) {
    EXPECT_EQ(error.code(), ErrorCode::unsupported);
  }
}

TEST_F(Ntfs, ADeletedFileIsWholeUntilItsClustersAreAnothers) {
  const Bytes content = kit::pattern(3000, 1);
  volume_.file(30, kRoot, "gone.bin", 120, content);
  volume_.remove(30);
  auto files = open();
  Entry gone = all(*files).at("/gone.bin");
  EXPECT_EQ(gone.state, EntryState::deleted);
  EXPECT_EQ(gone.intact, 1);
  EXPECT_EQ(kit::read_all(*files->open(gone).bytes), content);

  volume_.file(31, kRoot, "new.bin", 121, kit::pattern(1024, 2), kNow + kSecond);
  files = open();
  gone = all(*files).at("/gone.bin");
  EXPECT_NEAR(*gone.intact, 1 - 1024.0 / 3000, 1e-9);
  EXPECT_EQ(files->open(gone).lost.at(0), (Range{1024, 1024}));

  // The bitmap may not know of it yet: the file that holds it does.
  volume_.use(121, 1, false);
  EXPECT_NEAR(*all(*open()).at("/gone.bin").intact, 1 - 1024.0 / 3000, 1e-9);
}

TEST_F(Ntfs, TwoDeletedFilesThatClaimOneClusterAreBothInDoubt) {
  volume_.file(30, kRoot, "first.bin", 120, kit::pattern(2048, 1));
  volume_.file(31, kRoot, "second.bin", 121, kit::pattern(2048, 2));
  volume_.remove(30);
  volume_.remove(31);
  const auto files = open();
  const auto found = all(*files);
  for (const char* path : {"/first.bin", "/second.bin"}) {
    EXPECT_EQ(found.at(path).intact, 0.75);
    EXPECT_NE(found.at(path).evidence.find("another deleted file"), std::string::npos);
  }
  EXPECT_EQ(files->open(found.at("/first.bin")).doubtful.at(0), (Range{1024, 1024}));
}

TEST_F(Ntfs, OfTwoDeletedFilesTheOneThatWasChangedLaterHadTheCluster) {
  volume_.file(30, kRoot, "first.bin", 120, kit::pattern(3072, 1));
  volume_.file(31, kRoot, "second.bin", 121, kit::pattern(1024, 2), kNow + kSecond);
  volume_.remove(30);
  volume_.remove(31);
  auto files = open();
  auto found = all(*files);
  EXPECT_EQ(found.at("/second.bin").intact, 1);
  EXPECT_NEAR(*found.at("/first.bin").intact, 2.0 / 3, 1e-9);
  const Content first = files->open(found.at("/first.bin"));
  EXPECT_EQ(first.lost, (std::vector<Range>{{1024, 1024}}));
  EXPECT_TRUE(first.doubtful.empty());
  // A third, of which it is not told when.
  volume_.record(32, 2, 0, {named("third.bin"), NtfsBuilder::stored(0x80, {{121, 1}}, 1000)});
  found = all(*open());
  EXPECT_EQ(found.at("/second.bin").intact, 0.5);
  EXPECT_NEAR(*found.at("/first.bin").intact, 2.5 / 3, 1e-9);
}

TEST_F(Ntfs, NothingIsCalledWholeThatMayHaveBeenWrittenOver) {
  volume_.file(30, kRoot, "gone.bin", 120, kit::pattern(2048, 1));
  volume_.remove(30);
  // A record that was used again later: what its earlier file wrote, nobody can tell.
  volume_.record(31, 2, 1, {standard(kNow + kSecond), named("again")});
  EXPECT_EQ(all(*open()).at("/gone.bin").intact, 0.99);
  volume_.record(31, 1, 1, {standard(kNow + kSecond), named("again")});
  EXPECT_EQ(all(*open()).at("/gone.bin").intact, 1);
  // A file that was written to again later may have lain there in between.
  volume_.record(31, 1, 1,
                 {NtfsBuilder::standard(kNow - kSecond, kNow + kSecond), named("written again")});
  EXPECT_EQ(all(*open()).at("/gone.bin").intact, 0.99);
}

TEST_F(Ntfs, WhatWasInADeletedFolderStandsInItAndOrphansAtTheTop) {
  volume_.folder(30, kRoot, "Keeper");
  volume_.small(31, 30, "log.txt", kit::bytes_of("two eggs"));
  volume_.small(32, 30, "kept.txt", kit::bytes_of("three"));
  volume_.remove(30);
  volume_.remove(31);
  auto found = all(*open());
  EXPECT_EQ(found.at("/Keeper/log.txt").state, EntryState::deleted);
  EXPECT_EQ(found.at("/Keeper/kept.txt").state, EntryState::orphan);
  // Its record is another folder's now: what was in it stays together.
  volume_.record(30, 3, 3, {standard(), named("Other")});
  found = all(*open());
  EXPECT_EQ(found.at("/record-30-1/log.txt").state, EntryState::deleted);
  EXPECT_EQ(found.at("/record-30-1/kept.txt").state, EntryState::orphan);
  EXPECT_FALSE(found.contains("/Other/log.txt"));
}

TEST_F(Ntfs, FoldersThatHoldEachOtherAreEachListedOnce) {
  volume_.record(30, 1, 3, {standard(), named("a", 31, 1)});
  volume_.record(31, 1, 3, {standard(), named("b", 30, 1)});
  volume_.small(32, 31, "in b", {});
  const auto found = all(*open());
  EXPECT_EQ(found.size(), 3u);
  EXPECT_EQ(found.at("/b/in b").state, EntryState::orphan);
}

TEST_F(Ntfs, ADeletedRecordWithoutANameFindsItInTheSlackOfItsFolder) {
  volume_.small(31, kRoot, "x", {});
  volume_.record(31, 2, 0,
                 {standard(kNow + 5), NtfsBuilder::resident(0x80, kit::bytes_of("eggs"))});
  EXPECT_TRUE(all(*open()).contains("/record-31.txt"));
  // As systems leave it: the end of the entries stands over the head of the one that was.
  Bytes node(1024);
  kit::put_text(node, 0, "INDX");
  kit::put(node, 4, 0x28, 2);
  kit::put(node, 6, 3, 2);
  kit::put(node, 0x18, 0x28, 4);
  kit::put(node, 0x1C, 0x38, 4);
  kit::put(node, 0x20, 1024 - 0x18, 4);
  kit::put(node, 0x28, 7, 2);
  const Bytes name = NtfsBuilder::name(kRoot, 5, "count.csv", kNow + 5);
  Bytes key(name.begin() + 0x18, name.end());
  kit::put(key, 0x30, 4, 8);
  kit::put_bytes(node, 0x50, key);
  for (const std::size_t at : {510u, 1022u}) kit::put(node, at, 7, 2);
  volume_.write(200, node);
  volume_.use(200, 1);
  volume_.record(5, 5, 3,
                 {standard(), named("."), NtfsBuilder::stored(0xA0, {{200, 1}}, 1024, "$I30")});
  const auto found = all(*open());
  ASSERT_TRUE(found.contains("/count.csv"));
  EXPECT_NE(found.at("/count.csv").evidence.find("slack"), std::string::npos);
}

TEST_F(Ntfs, TheSecurityIdIsGivenWhereThereIsOne) {
  Bytes value(72);
  kit::put(value, 0, kNow, 8);
  kit::put(value, 0x34, 0x104, 4);
  volume_.record(30, 1, 1, {NtfsBuilder::resident(0x10, value), named("newer.txt")});
  volume_.record(31, 1, 1, {standard(), named("older.txt")});
  const auto found = all(*open());
  EXPECT_EQ(found.at("/newer.txt").security_id, 0x104u);
  EXPECT_FALSE(found.at("/older.txt").security_id);
}

TEST_F(Ntfs, TheOlderRecycleBinSaysWhereAFileWas) {
  volume_.folder(40, kRoot, "RECYCLER");
  volume_.folder(41, 40, "S-1-5-21-500");
  Bytes list(0x14 + 2 * 0x320);
  kit::put(list, 0x0C, 0x320, 4);
  const std::string path = "C:\\Station\\counts.csv";
  for (const std::size_t number : {0u, 1u}) {
    const std::size_t at = 0x14 + number * 0x320;
    kit::put(list, at + 0x104, number + 1, 4);
    kit::put(list, at + 0x108, 2, 4);
    kit::put(list, at + 0x10C, kNow, 8);
    for (std::size_t i = 0; i < path.size(); ++i)
      kit::put(list, at + 0x118 + i * 2, static_cast<unsigned char>(path[i]), 2);
  }
  volume_.file(30, 41, "INFO2", 120, list);
  volume_.small(31, 41, "Dc1.csv", kit::bytes_of("two eggs"));
  volume_.folder(32, 41, "DC2");
  volume_.small(33, 32, "tide.txt", {});
  volume_.small(34, 41, "Dc3.csv", {});
  const auto found = all(*open());
  const std::string bin = "/RECYCLER/S-1-5-21-500/";
  EXPECT_EQ(found.at(bin + "Dc1.csv").original_path, path);
  EXPECT_EQ(to_iso8601(*found.at(bin + "Dc1.csv").deleted_at), "2025-08-18T14:13:20Z");
  EXPECT_EQ(found.at(bin + "DC2/tide.txt").original_path, path + "\\tide.txt");
  EXPECT_EQ(found.at(bin + "Dc3.csv").original_path, "");
}

TEST_F(Ntfs, TheRecycleBinSaysWhereAFileWas) {
  volume_.folder(40, kRoot, "$RECYCLE.BIN");
  volume_.folder(41, 40, "S-1-5-21-1001");
  Bytes first(0x18 + 520);
  kit::put(first, 0, 1, 8);
  kit::put(first, 0x10, kNow, 8);
  const std::string path = "C:\\Station\\counts.csv";
  for (std::size_t i = 0; i < path.size(); ++i)
    kit::put(first, 0x18 + i * 2, static_cast<unsigned char>(path[i]), 2);
  Bytes second(0x1C);
  kit::put(second, 0, 2, 8);
  kit::put(second, 0x10, kNow, 8);
  kit::put(second, 0x18, 7, 4);
  for (std::size_t i = 0; i < 6; ++i)
    kit::put(second, 0x1C + i * 2, static_cast<unsigned char>("C:\\Old"[i]), 2);
  kit::put(second, 0x1C + 12, 0, 2);
  volume_.file(30, 41, "$IAAAAAA.csv", 120, first);
  volume_.small(31, 41, "$RAAAAAA.csv", kit::bytes_of("two eggs"));
  volume_.small(32, 41, "$IBBBBBB", second);
  volume_.folder(33, 41, "$RBBBBBB");
  volume_.small(34, 33, "tide.txt", {});
  volume_.small(35, 41, "$ICCCCCC", Bytes(10));
  volume_.small(36, 41, "$RCCCCCC", {});
  const auto found = all(*open());
  const std::string bin = "/$RECYCLE.BIN/S-1-5-21-1001/";
  EXPECT_EQ(found.at(bin + "$RAAAAAA.csv").original_path, path);
  EXPECT_EQ(to_iso8601(*found.at(bin + "$RAAAAAA.csv").deleted_at), "2025-08-18T14:13:20Z");
  EXPECT_EQ(found.at(bin + "$RBBBBBB").original_path, "C:\\Old");
  EXPECT_EQ(found.at(bin + "$RBBBBBB/tide.txt").original_path, "C:\\Old\\tide.txt");
  EXPECT_EQ(found.at(bin + "$RCCCCCC").original_path, "");
}

TEST_F(Ntfs, ATableThatClaimsMoreThanThereIsTakesNoMoreRoom) {
  volume_.small(30, kRoot, "log.txt", {});
  Bytes bytes = volume_.bytes();
  // A volume of an exabyte, its file table with a hole of as much behind what there is.
  kit::put(bytes, 0x28, std::uint64_t{1} << 51, 8);
  volume_.record(0, 1, 1,
                 {standard(), named("$MFT"),
                  NtfsBuilder::stored(0x80,
                                      {{NtfsBuilder::kTable, NtfsBuilder::kRecords},
                                       {NtfsBuilder::kHole, std::uint64_t{1} << 44}},
                                      std::uint64_t{1} << 54)});
  Bytes wide = volume_.bytes();
  kit::put(wide, 0x28, std::uint64_t{1} << 51, 8);
  for (const Bytes& hostile : {bytes, wide}) {
    const auto files = open(hostile);
    ASSERT_TRUE(files);
    EXPECT_TRUE(all(*files).contains("/log.txt"));
    EXPECT_LE(files->used_bytes(), hostile.size());
    files->allocation({0, ~std::uint64_t{0}}, [](Range, bool) { return true; });
  }
}

TEST_F(Ntfs, EveryByteOfItsStructuresMayBeAnything) {
  volume_.folder(30, kRoot, "Keeper");
  volume_.file(31, 30, "log.txt", 120, kit::pattern(3000, 1));
  volume_.file(32, kRoot, "gone.bin", 130, kit::pattern(2000, 1));
  volume_.remove(32);
  const Bytes whole = volume_.bytes();
  const auto use = [&](const Bytes& bytes) {
    Context context;
    const auto files = open_ntfs(make_memory_source(bytes), {}, context);
    if (!files) return;
    for (const auto& [path, entry] : all(*files)) {
      if (entry.kind != EntryKind::file) continue;
      try {
        Bytes start(4096);
        files->open(entry).bytes->read(0, start);
      } catch (const Error&) {
        // Encrypted by the flipped bit: one clear line.
      }
    }
    EXPECT_LE(context.findings->all().size(), 1001u);
  };
  Bytes damaged = whole;
  std::vector<Range> places = {{0, 0x60}};
  for (const std::uint64_t record : {0u, 5u, 6u, 30u, 31u, 32u})
    places.push_back({NtfsBuilder::record_at(record), 0x180});
  for (const Range& place : places)
    for (std::size_t at = static_cast<std::size_t>(place.offset); at < place.end();
         at += at % 3 == 0 ? kit::thinned(1) : 1)
      for (const int change : {0x01, 0x80, 0xFF}) {
        damaged[at] ^= static_cast<std::byte>(change);
        use(damaged);
        damaged[at] = whole[at];
      }
  for (std::size_t length = 0; length < whole.size(); length += 1777)
    use({whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(length)});
}

}  // namespace
}  // namespace lantern
