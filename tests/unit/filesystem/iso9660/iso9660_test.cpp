// Discs that no tool writes: what is damaged, hostile, or rare.
#include "filesystem/iso9660/iso9660.h"

#include <gtest/gtest.h>

#include "kit/iso_builder.h"
#include "lantern/error.h"
#include "lantern/nest/session.h"
#include "lantern/text.h"

namespace lantern {
namespace {

using kit::Bytes;
using kit::IsoBuilder;

constexpr std::uint8_t kFolder = 0x02;
constexpr std::uint8_t kGoesOn = 0x80;

class Iso9660 : public ::testing::Test {
 protected:
  std::shared_ptr<const FileSystem> open(const Bytes& bytes) {
    return open_iso9660(make_memory_source(bytes), {}, context_);
  }
  std::vector<Entry> all(const FileSystem& files, bool deleted = false) {
    std::vector<Entry> entries;
    WalkOptions options;
    options.deleted = deleted;
    files.walk(options, [&](const Entry& entry) {
      entries.push_back(entry);
      return WalkStep::go_on;
    });
    return entries;
  }
  std::vector<std::string> paths(const FileSystem& files) {
    std::vector<std::string> list;
    for (const Entry& entry : all(files)) list.push_back(path_text(entry.path));
    return list;
  }
  Bytes content(const FileSystem& files, const std::vector<std::string>& path) {
    return kit::read_all(*files.open(files.find(path).at(0)).bytes);
  }
  Context context_;
};

TEST_F(Iso9660, WithoutRockRidgeNamesLoseTheirVersionAndHaveAnyCase) {
  IsoBuilder disc(false);
  disc.file(IsoBuilder::kRoot, "LOG.TXT", kit::pattern(10, 1), 30);
  disc.file(IsoBuilder::kRoot, "COUNTS.", kit::pattern(20, 2), 31);
  const auto files = open(disc.bytes());
  ASSERT_TRUE(files);
  EXPECT_EQ(paths(*files), (std::vector<std::string>{"/LOG.TXT", "/COUNTS"}));
  EXPECT_EQ(files->find({"log.txt"}).size(), 1u);
  EXPECT_EQ(files->facts().label, "SKERROW");
  EXPECT_EQ(files->facts().uuid, "2026-03-14-08-30-00-00");
  const Entry log = files->find({"LOG.TXT"}).at(0);
  EXPECT_EQ(to_iso8601(*log.modified), "2026-03-14T08:30:00Z");
}

TEST_F(Iso9660, AFileOfSeveralRecordsIsOne) {
  IsoBuilder disc(false);
  kit::put_bytes(disc.bytes(), IsoBuilder::place(30), kit::pattern(2048, 1));
  kit::put_bytes(disc.bytes(), IsoBuilder::place(40), kit::pattern(700, 2));
  disc.record(IsoBuilder::kRoot, "LARGE.BIN", 30, 2048, kGoesOn);
  disc.record(IsoBuilder::kRoot, "LARGE.BIN", 40, 700, 0);
  const auto files = open(disc.bytes());
  ASSERT_EQ(all(*files).size(), 1u);
  Bytes both = kit::pattern(2048, 1);
  const Bytes second = kit::pattern(700, 2);
  both.insert(both.end(), second.begin(), second.end());
  EXPECT_EQ(content(*files, {"LARGE.BIN"}), both);
}

TEST_F(Iso9660, RecordsOfOneFileWithoutEndAreBounded) {
  IsoBuilder disc(false);
  for (int i = 0; i < 40; ++i) disc.record(IsoBuilder::kRoot, "A", 30, 2048, kGoesOn);
  const auto files = open(disc.bytes());
  for (const Entry& entry : all(*files)) {
    EXPECT_LE(entry.size_bytes, 16u * 2048);
    EXPECT_EQ(files->open(entry).bytes->size(), entry.size_bytes);
  }
  EXPECT_FALSE(kit::codes(context_).empty());
}

TEST_F(Iso9660, UnitsWithGapsBetweenThemAreReadInTurn) {
  IsoBuilder disc(false);
  for (const std::uint32_t i : {0u, 1u, 2u})
    kit::put_bytes(disc.bytes(), IsoBuilder::place(30 + i * 3), kit::pattern(2048, i + 1));
  const std::size_t at = disc.record(IsoBuilder::kRoot, "TURNS.BIN", 30, 2 * 2048 + 100, 0);
  kit::put(disc.bytes(), at + 26, 1, 1);
  kit::put(disc.bytes(), at + 27, 2, 1);
  const Bytes read = content(*open(disc.bytes()), {"TURNS.BIN"});
  ASSERT_EQ(read.size(), 2u * 2048 + 100);
  EXPECT_EQ(Bytes(read.begin() + 2048, read.begin() + 4096), kit::pattern(2048, 2));
  EXPECT_EQ(read.back(), kit::pattern(100, 3).back());
}

TEST_F(Iso9660, AFolderThatWasMovedIsShownWhereItBelongs) {
  IsoBuilder disc(true);
  disc.folder(IsoBuilder::kRoot, "rr_moved", 21);
  disc.record(IsoBuilder::kRoot, "deep", 0, 0, 0, IsoBuilder::field("CL", IsoBuilder::both(22)));
  Bytes elsewhere = IsoBuilder::field("RE", {});
  disc.record(21, "DEEP", 22, 2048, kFolder, elsewhere);
  disc.file(22, "log.txt", kit::pattern(50, 1), 30);
  // Its own record, which the builder lays only for a folder that is where it belongs.
  Bytes folder(disc.bytes().begin() + static_cast<std::ptrdiff_t>(IsoBuilder::place(22)),
               disc.bytes().begin() + static_cast<std::ptrdiff_t>(IsoBuilder::place(22) + 200));
  kit::put_bytes(disc.bytes(), IsoBuilder::place(22), Bytes(2048));
  disc.folder(23, "unused", 22);
  kit::put_bytes(disc.bytes(), IsoBuilder::place(22) + 68, folder);
  const auto files = open(disc.bytes());
  EXPECT_EQ(paths(*files), (std::vector<std::string>{"/rr_moved", "/DEEP", "/DEEP/log.txt"}));
}

TEST_F(Iso9660, ALinkNamesItsPath) {
  IsoBuilder disc(true);
  const std::string parts = std::string("\0\4\0", 3) + std::string("\0\6", 2) + "Keeper" +
                            std::string("\1\2", 2) + "lo" + std::string("\0\1", 2) + "g";
  Bytes use = IsoBuilder::field("PX", [] {
    Bytes numbers = IsoBuilder::both(0120777);
    for (int i = 0; i < 3; ++i) {
      const Bytes one = IsoBuilder::both(1);
      numbers.insert(numbers.end(), one.begin(), one.end());
    }
    return numbers;
  }());
  const Bytes link = IsoBuilder::field("SL", kit::bytes_of(parts));
  use.insert(use.end(), link.begin(), link.end());
  disc.record(IsoBuilder::kRoot, "LOG", 0, 0, 0, use);
  const auto files = open(disc.bytes());
  const Entry entry = files->find({"LOG"}).at(0);
  EXPECT_EQ(entry.kind, EntryKind::symlink);
  EXPECT_EQ(kit::text_of(content(*files, {"LOG"})), "../Keeper/log");
  EXPECT_EQ(entry.size_bytes, 13u);
  EXPECT_EQ(entry.intact, 1);
}

TEST_F(Iso9660, AFolderThatLeadsToItselfIsEnteredOnce) {
  IsoBuilder disc(true);
  disc.folder(IsoBuilder::kRoot, "Keeper", 21);
  disc.record(21, "AGAIN", 21, 2048, kFolder);
  disc.record(21, "ROOT", IsoBuilder::kRoot, 2048, kFolder);
  const auto files = open(disc.bytes());
  EXPECT_LT(all(*files).size(), 10u);
  EXPECT_FALSE(kit::codes(context_).empty());
}

TEST_F(Iso9660, ADamagedRecordLosesItsBlockAlone) {
  IsoBuilder disc(false);
  const std::size_t first = disc.file(IsoBuilder::kRoot, "A.TXT", kit::pattern(10, 1), 30);
  const std::size_t second = disc.file(IsoBuilder::kRoot, "B.TXT", kit::pattern(10, 2), 31);
  EXPECT_LT(first, second);
  kit::put(disc.bytes(), second + 2, 77, 1);  // its two orders differ
  const auto files = open(disc.bytes());
  EXPECT_EQ(paths(*files), std::vector<std::string>{"/A.TXT"});
  EXPECT_EQ(kit::codes(context_), std::vector<std::string>{"iso.folder@" + std::to_string(second)});
}

TEST_F(Iso9660, WhatLiesPastTheEndIsLostAndSaid) {
  IsoBuilder disc(false);
  disc.file(IsoBuilder::kRoot, "TIDE.BIN", kit::pattern(8192, 1), 60);
  disc.bytes().resize(IsoBuilder::place(62));
  const auto files = open(disc.bytes());
  EXPECT_EQ(kit::codes(context_),
            std::vector<std::string>{"iso.volume-size@" + std::to_string(IsoBuilder::place(62))});
  const Entry tide = files->find({"TIDE.BIN"}).at(0);
  EXPECT_EQ(tide.intact, 0.5);
  const Content content = files->open(tide);
  EXPECT_EQ(content.lost, (std::vector<Range>{{4096, 4096}}));
  EXPECT_EQ(content.bytes->size(), 8192u);
}

TEST_F(Iso9660, FieldsThatGoOnForEverEnd) {
  IsoBuilder disc(true);
  // A continuation that names itself.
  Bytes next = IsoBuilder::both(50);
  for (const std::uint32_t number : {0u, 64u}) {
    const Bytes more = IsoBuilder::both(number);
    next.insert(next.end(), more.begin(), more.end());
  }
  const Bytes again = IsoBuilder::field("CE", next);
  kit::put_bytes(disc.bytes(), IsoBuilder::place(50), again);
  disc.record(IsoBuilder::kRoot, "LOG", 30, 10, 0, again);
  EXPECT_EQ(paths(*open(disc.bytes())), std::vector<std::string>{"/LOG"});
}

TEST_F(Iso9660, FiguresThatDoNotFitEachOtherAreNoDisc) {
  IsoBuilder disc(false);
  disc.file(IsoBuilder::kRoot, "A.TXT", kit::pattern(10, 1), 30);
  const std::size_t primary = IsoBuilder::place(16);
  EXPECT_TRUE(open(disc.bytes()));
  EXPECT_FALSE(open(kit::patched(disc.bytes(), {{primary + 0x81, {0}}})));
  EXPECT_FALSE(open(kit::patched(disc.bytes(), {{primary + 0x50, {1}}})));
  EXPECT_FALSE(open(kit::patched(disc.bytes(), {{primary + 0x9C + 25, {0}}})));
  EXPECT_FALSE(open(Bytes(100'000)));
  EXPECT_FALSE(open(Bytes(100)));
}

TEST_F(Iso9660, APackedFileIsSaidNotToBeUnpacked) {
  IsoBuilder disc(true);
  disc.record(IsoBuilder::kRoot, "LOG", 30, 10, 0, IsoBuilder::field("ZF", Bytes(12)));
  const auto files = open(disc.bytes());
  EXPECT_THROW(files->open(files->find({"LOG"}).at(0)), Error);
}

TEST_F(Iso9660, TheNewestSessionIsReadAndTheEarlierOneIsAVersion) {
  IsoBuilder first(false);
  first.file(IsoBuilder::kRoot, "A.TXT", kit::pattern(10, 1), 30);
  IsoBuilder second(false);
  Bytes bytes = first.bytes();
  bytes.resize(2 * bytes.size());
  // A later session names blocks of the whole disc.
  second.bytes().resize(IsoBuilder::place(100));
  const auto lay = [&](std::uint32_t from, std::uint32_t to) {
    const auto at = second.bytes().begin() + static_cast<std::ptrdiff_t>(IsoBuilder::place(from));
    kit::put_bytes(bytes, IsoBuilder::place(to), Bytes(at, at + 2048));
  };
  lay(16, 116);
  lay(17, 117);
  lay(IsoBuilder::kRoot, 120);
  for (const std::size_t at : {IsoBuilder::place(116) + 0x9C, IsoBuilder::place(120)}) {
    kit::put(bytes, at + 2, 120, 4);
    kit::put(bytes, at + 9, 120, 1);
  }
  const auto files = open(bytes);
  ASSERT_TRUE(files);
  EXPECT_TRUE(all(*files).empty());
  ASSERT_EQ(files->versions().size(), 1u);
  EXPECT_EQ(files->versions()[0].id, "session-1");
  const auto then = files->open_version("session-1");
  ASSERT_TRUE(then);
  EXPECT_EQ(paths(*then), std::vector<std::string>{"/A.TXT"});
  EXPECT_TRUE(then->versions().empty());
  EXPECT_FALSE(files->open_version("session-2"));
}

TEST_F(Iso9660, AUdfBesideItIsSaid) {
  IsoBuilder disc(false);
  kit::put_text(disc.bytes(), IsoBuilder::place(18) + 1, "BEA01");
  kit::put_text(disc.bytes(), IsoBuilder::place(19) + 1, "NSR02");
  EXPECT_TRUE(open(disc.bytes()));
  EXPECT_EQ(kit::codes(context_), std::vector<std::string>{"iso.beside-udf@0"});
}

TEST_F(Iso9660, BootImagesAreFoundBesideTheFiles) {
  IsoBuilder disc(false);
  disc.file(IsoBuilder::kRoot, "LOADER.BIN", kit::pattern(5000, 1), 30);
  const std::size_t boot = IsoBuilder::place(17);
  kit::put(disc.bytes(), boot, 0, 1);
  kit::put_text(disc.bytes(), boot + 7, "EL TORITO SPECIFICATION");
  kit::put(disc.bytes(), boot + 0x47, 50, 4);
  kit::put(disc.bytes(), IsoBuilder::place(18), 255, 1);
  kit::put_text(disc.bytes(), IsoBuilder::place(18) + 1, "CD001");
  const std::size_t catalog = IsoBuilder::place(50);
  kit::put(disc.bytes(), catalog, 1, 1);
  kit::put(disc.bytes(), catalog + 0x1C, 0x10000 - 0xAA55 - 1, 2);
  kit::put(disc.bytes(), catalog + 0x1E, 0xAA55, 2);
  kit::put(disc.bytes(), catalog + 32, 0x88, 1);
  kit::put(disc.bytes(), catalog + 38, 4, 2);
  kit::put(disc.bytes(), catalog + 40, 30, 4);
  const auto files = open(disc.bytes());
  EXPECT_EQ(all(*files).size(), 1u);
  const auto entries = all(*files, true);
  ASSERT_EQ(entries.size(), 2u);
  EXPECT_EQ(entries[1].id, "boot-1");
  EXPECT_EQ(entries[1].state, EntryState::found);
  // The firmware loads 2048 bytes; the file that begins there is longer.
  EXPECT_EQ(kit::read_all(*files->open(entries[1]).bytes), kit::pattern(5000, 1));
  kit::put(disc.bytes(), catalog + 0x1C, 7, 2);
  EXPECT_EQ(all(*open(disc.bytes()), true).size(), 1u) << "its sum is wrong";
}

TEST_F(Iso9660, BesideATableTheDiscIsAVolumeToo) {
  IsoBuilder disc(false);
  disc.file(IsoBuilder::kRoot, "A.TXT", kit::pattern(10, 1), 30);
  Bytes& bytes = disc.bytes();
  kit::put(bytes, 446 + 4, 0xEF, 1);
  kit::put(bytes, 446 + 8, 360, 4);
  kit::put(bytes, 446 + 12, 40, 4);
  kit::put(bytes, 510, 0xAA55, 2);
  // Something known in the partition, so that the table counts.
  kit::put_text(bytes, std::size_t{360} * 512, "hsqs");
  kit::put(bytes, std::size_t{360} * 512 + 28, 4, 2);
  Address address;
  address.first = "disc.iso";
  const DiskPtr view = Session({}, context_).open_bytes(make_memory_source(bytes), address, {});
  ASSERT_EQ(view->volumes.size(), 2u);
  EXPECT_EQ(view->volumes[0].address.print(), "disc.iso::at=0");
  ASSERT_TRUE(view->volumes[0].file_system());
  EXPECT_EQ(view->volumes[0].file_system()->facts().format, "iso9660");
}

}  // namespace
}  // namespace lantern
