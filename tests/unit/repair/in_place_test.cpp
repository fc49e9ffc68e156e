#include "repair/apply/in_place.h"

#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "lantern/error.h"
#include "source/writable_source.h"

namespace lantern::repair {
namespace {

class InPlaceTest : public testing::Test {
 protected:
  static constexpr std::size_t kSize = 64u << 10;
  InPlaceTest() : disk_(folder_.file("disk.img", kit::pattern(kSize, 1))) {
    how_.journal = folder_.path() + "/disk.undo";
  }

  Target open(const std::shared_ptr<Scratch>& scratch = nullptr) const {
    Context context;
    context.scratch = scratch;
    return Session({}, context).open_disk(Address::parse(disk_));
  }
  static void write(const Target& target, std::uint64_t at, std::size_t length,
                    std::uint32_t seed) {
    write_through(target.disk().bytes, at, kit::pattern(length, seed));
  }

  kit::Folder folder_;
  std::string disk_;
  ApplyOptions how_;
};

TEST_F(InPlaceTest, WhatIsWrittenStandsThereAfterAFlush) {
  InPlace live(open(), Session(), how_);
  const Target target = open(live.scratch());
  write(target, 4096, 512, 2);
  EXPECT_EQ(kit::read_file(disk_), kit::pattern(kSize, 1)) << "it waits";
  live.flush();
  kit::Bytes expected = kit::pattern(kSize, 1);
  kit::put_bytes(expected, 4096, kit::pattern(512, 2));
  EXPECT_EQ(kit::read_file(disk_), expected);
  // The same bytes again, and what was written before still reads.
  write(target, 4100, 8, 3);
  kit::put_bytes(expected, 4100, kit::pattern(8, 3));
  EXPECT_EQ(kit::read_all(*target.disk().bytes), expected);
  live.close();
  EXPECT_EQ(kit::read_file(disk_), expected);
}

TEST_F(InPlaceTest, AllBatchesAreTakenBackTogether) {
  {
    InPlace live(open(), Session(), how_);
    const Target target = open(live.scratch());
    for (std::uint32_t i = 0; i < 5; ++i) {
      write(target, 1000 + 300 * i, 700, 10 + i);
      live.flush();
    }
    live.close();
  }
  EXPECT_NE(kit::read_file(disk_), kit::pattern(kSize, 1));
  const JournalReport report = undo_repair(how_.journal, how_, Context());
  EXPECT_EQ(report.was, JournalState::applied);
  EXPECT_EQ(kit::read_file(disk_), kit::pattern(kSize, 1));
}

TEST_F(InPlaceTest, WithoutAnEndItIsTakenBackAsWell) {
  {
    InPlace live(open(), Session(), how_);
    const Target target = open(live.scratch());
    write(target, 0, 2000, 20);
    live.flush();
    write(target, 8000, 2000, 21);  // waits, and is lost
  }
  undo_repair(how_.journal, how_, Context());
  EXPECT_EQ(kit::read_file(disk_), kit::pattern(kSize, 1));
}

TEST_F(InPlaceTest, AJournalThatWasCutInTheLastRecordTakesBackTheRest) {
  {
    InPlace live(open(), Session(), how_);
    const Target target = open(live.scratch());
    write(target, 0, 2000, 20);
    live.flush();
  }
  kit::Bytes journal = kit::read_file(how_.journal);
  const kit::Bytes half(journal.begin() + 100, journal.begin() + 140);
  journal.insert(journal.end(), half.begin(), half.end());
  how_.journal = folder_.file("cut.undo", journal);
  undo_repair(how_.journal, how_, Context());
  EXPECT_EQ(kit::read_file(disk_), kit::pattern(kSize, 1));
}

TEST_F(InPlaceTest, TheFilesAreHeldAlone) {
  InPlace live(open(), Session(), how_);
  ApplyOptions other = how_;
  other.journal = folder_.path() + "/other.undo";
  EXPECT_THROW(InPlace(open(), Session(), other), Error);
}

TEST_F(InPlaceTest, WhatChangesNothingIsNotNoted) {
  InPlace live(open(), Session(), how_);
  const Target target = open(live.scratch());
  const kit::Bytes same = kit::pattern(kSize, 1);
  write_through(target.disk().bytes, 0, ByteView(same).first(4096));
  live.close();
  EXPECT_EQ(undo_repair(how_.journal, how_, Context()).bytes_written, 0u);
}

}  // namespace
}  // namespace lantern::repair
