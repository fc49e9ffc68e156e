// A repair made and taken back, with the process ended, or a write failing, at every place there
// is.
#include <gtest/gtest.h>

#include <sys/wait.h>
#include <unistd.h>

#include <filesystem>

#include "kit/disk_builder.h"
#include "kit/ext_builder.h"
#include "kit/thinned.h"
#include "lantern/error.h"
#include "lantern/repair.h"
#include "lantern/scratch.h"

namespace lantern::repair {
namespace {

// Counts what is asked of it, and at the n-th change does what the test wants.
class Counting final : public Medium {
 public:
  Counting(std::unique_ptr<Medium> inner, int* left, std::function<void()> at_zero)
      : inner_(std::move(inner)), left_(left), at_zero_(std::move(at_zero)) {}
  std::uint64_t size() const override { return inner_->size(); }
  void read(std::uint64_t offset, std::span<std::byte> out) const override {
    inner_->read(offset, out);
  }
  void write(std::uint64_t offset, std::span<const std::byte> bytes) override {
    // Half of the bytes, so that a torn write is met, too.
    if (*left_ == 1) inner_->write(offset, bytes.first(bytes.size() / 2));
    count();
    inner_->write(offset, bytes);
  }
  void flush() override {
    count();
    inner_->flush();
  }
  void resize(std::uint64_t size) override {
    count();
    inner_->resize(size);
  }

 private:
  void count() {
    if (--*left_ == 0) at_zero_();
  }
  std::unique_ptr<Medium> inner_;
  int* left_;
  std::function<void()> at_zero_;
};

// A dynamic VDI with three things wrong, so that blocks get a place and the file becomes longer.
class Repaired : public ::testing::Test {
 protected:
  Repaired() {
    kit::ExtBuilder volume;
    volume.file(13, 50, kit::bytes_of("two eggs\n"));
    volume.folder(2, 2, kit::ExtBuilder::kRootBlock, {{"log.txt", 13}});
    const kit::Bytes ext = volume.bytes();
    kit::Bytes disk(2048 * 512 + ext.size() + (5u << 20));
    kit::put_mbr(disk, 0, {{0x07, 2048, static_cast<std::uint32_t>(ext.size() / 512), true}});
    kit::put(disk, 510, 0, 2);
    kit::put_bytes(disk, 2048 * 512, ext);
    path_ = folder_.file("station.vdi", kit::make_vdi(disk, {}));
    damaged_ = kit::read_file(path_);
    plan_ = plan_repair(address(), {}, Session({}, context_));
    // And one where nothing is stored yet.
    RepairStep step;
    step.number = plan_.steps.size() + 1;
    step.code = "test.far";
    step.what = "bytes in a block without a place";
    step.writes.push_back({path_, disk.size() - 5000, kit::Bytes(700), kit::pattern(700, 9)});
    plan_.steps.push_back(step);
    for (const RepairStep& s : plan_.steps) all_.push_back(s.number);
  }

  Address address() const { return {path_, {}}; }

  ApplyOptions how(int* left = nullptr, std::function<void()> at_zero = {}) const {
    ApplyOptions options;
    options.journal = journal_;
    if (left != nullptr)
      options.open = [left, at_zero](const std::string& path) {
        return std::make_unique<Counting>(open_medium(path), left, at_zero);
      };
    return options;
  }

  kit::Bytes repaired() {
    apply_repair(plan_, all_, Session({}, context_), how());
    const kit::Bytes bytes = kit::read_file(path_);
    undo_repair(journal_, how(), context_);
    EXPECT_EQ(kit::read_file(path_), damaged_);
    std::filesystem::remove(journal_);
    return bytes;
  }

  // Runs `work` in a process that is killed at the n-th change. False: it came to its end.
  static bool killed(const std::function<void()>& work) {
    const pid_t child = ::fork();
    if (child == 0) {
      work();
      ::_exit(0);
    }
    int status = 0;
    ::waitpid(child, &status, 0);
    return WIFSIGNALED(status);
  }

  kit::Folder folder_;
  Context context_;
  std::string path_;
  std::string journal_ = folder_ / "undo";
  kit::Bytes damaged_;
  RepairPlan plan_;
  std::vector<std::size_t> all_;
};

TEST_F(Repaired, IsPlannedWithoutAWrite) {
  EXPECT_EQ(kit::read_file(path_), damaged_);
  ASSERT_EQ(plan_.steps.size(), 3u);
  EXPECT_EQ(plan_.steps[0].code, "mbr.signature");
  EXPECT_EQ(plan_.steps[1].code, "mbr.type");
  ASSERT_EQ(plan_.steps[0].writes.size(), 1u);
  EXPECT_EQ(plan_.steps[0].writes[0].offset_bytes, 510u);
  EXPECT_EQ(plan_.before.files, 0u);
  EXPECT_EQ(plan_.after.files, 1u);
}

TEST_F(Repaired, IsMadeAndTakenBackToTheByteThoughTheFileGrew) {
  EXPECT_GT(repaired().size(), damaged_.size());
}

TEST_F(Repaired, KilledAtAnyWriteOfTheApplyIsFinishedOrTakenBack) {
  const kit::Bytes whole = repaired();
  int at = 1;
  for (;; at += kit::thinned(1) == 1 ? 1 : 5) {
    ASSERT_LT(at, 200);
    int left = at;
    const bool cut = killed([&] {
      apply_repair(plan_, all_, Session({}, context_),
                   how(&left, [] { ::kill(::getpid(), SIGKILL); }));
    });
    if (!cut) break;
    if (at % 2 == 0) {
      EXPECT_EQ(finish_repair(journal_, how(), context_).is, JournalState::applied) << at;
      EXPECT_EQ(kit::read_file(path_), whole) << at;
    }
    EXPECT_EQ(undo_repair(journal_, how(), context_).is, JournalState::undone) << at;
    EXPECT_EQ(kit::read_file(path_), damaged_) << at;
    std::filesystem::remove(journal_);
  }
  EXPECT_GT(at, 6);
}

TEST_F(Repaired, KilledAtAnyWriteOfTheUndoIsUndoneOrMadeAgain) {
  const kit::Bytes whole = repaired();
  apply_repair(plan_, all_, Session({}, context_), how());
  int at = 1;
  for (;; at += kit::thinned(1) == 1 ? 1 : 5) {
    ASSERT_LT(at, 200);
    int left = at;
    if (!killed([&] {
          undo_repair(journal_, how(&left, [] { ::kill(::getpid(), SIGKILL); }), context_);
        }))
      break;
    if (at % 2 == 0) {
      undo_repair(journal_, how(), context_);
      EXPECT_EQ(kit::read_file(path_), damaged_) << at;
    }
    finish_repair(journal_, how(), context_);
    // Where the undo was cut off before its mark, the journal still says that it was applied.
    if (kit::read_file(path_) != whole) {
      undo_repair(journal_, how(), context_);
      EXPECT_EQ(kit::read_file(path_), damaged_) << at;
      finish_repair(journal_, how(), context_);
    }
    EXPECT_EQ(kit::read_file(path_), whole) << at;
  }
  EXPECT_GT(at, 6);
}

TEST_F(Repaired, AFailingWriteIsToldAndTakenBack) {
  for (int at = 1; at < 200; at += kit::thinned(1) == 1 ? 1 : 4) {
    int left = at;
    try {
      apply_repair(plan_, all_, Session({}, context_), how(&left, [] {
                     throw Error(ErrorCode::cannot_write, "disk", 0, "Read-only file system");
                   }));
      EXPECT_GT(at, 6);
      return;
    } catch (const Error& error) {
      EXPECT_EQ(error.code(), ErrorCode::cannot_write);
    }
    const JournalReport report = undo_repair(journal_, how(), context_);
    // What the disk holds, whatever the marks say: the last flush may be what failed.
    EXPECT_NE(report.was, JournalState::nothing_done) << at;
    EXPECT_EQ(kit::read_file(path_), damaged_) << at;
    std::filesystem::remove(journal_);
  }
  FAIL() << "it never came to its end";
}

TEST_F(Repaired, AnotherDisksJournalIsRefusedBeforeAWrite) {
  apply_repair(plan_, all_, Session({}, context_), how());
  kit::Bytes other = kit::read_file(path_);
  other[0x178] = std::byte{0x77};
  kit::put_bytes(other, 1024, kit::pattern(3000, 4));
  folder_.file("station.vdi", other);
  EXPECT_THROW(undo_repair(journal_, how(), context_), Error);
  EXPECT_EQ(kit::read_file(path_), other);
  other.resize(other.size() + 512);
  folder_.file("station.vdi", other);
  EXPECT_THROW(undo_repair(journal_, how(), context_), Error);
}

TEST_F(Repaired, AJournalCutAnywhereIsReadAsFarAsItGoes) {
  apply_repair(plan_, all_, Session({}, context_), how());
  const kit::Bytes whole = kit::read_file(journal_);
  const kit::Bytes made = kit::read_file(path_);
  for (const bool repaired : {false, true})
    for (std::size_t length = 0; length < whole.size();
         length += kit::thinned(length < 200 ? 3 : 60'013)) {
      folder_.file("cut", kit::Bytes(whole.begin(), whole.begin() + static_cast<long>(length)));
      folder_.file("station.vdi", repaired ? made : damaged_);
      try {
        // Never "nothing was written" while the disk holds what was.
        const JournalReport report = undo_repair(folder_ / "cut", how(), context_);
        EXPECT_TRUE(!repaired || report.is == JournalState::undone) << length;
        EXPECT_EQ(kit::read_file(path_), damaged_) << length;
      } catch (const Error& error) {
        EXPECT_TRUE(error.code() == ErrorCode::cannot_read || error.code() == ErrorCode::refused);
        EXPECT_EQ(kit::read_file(path_), repaired ? made : damaged_) << length;
      }
    }
}

TEST_F(Repaired, AnOlderJournalDoesNotUndoWhatAYoungerOneWrote) {
  apply_repair(plan_, all_, Session({}, context_), how());
  undo_repair(journal_, how(), context_);
  ApplyOptions second = how();
  second.journal = folder_ / "second.undo";
  apply_repair(plan_, all_, Session({}, context_), second);
  const kit::Bytes made = kit::read_file(path_);
  try {
    undo_repair(journal_, how(), context_);
    FAIL() << "the disk was repaired again, and the first journal says it was not";
  } catch (const Error& error) {
    EXPECT_EQ(error.code(), ErrorCode::refused);
    EXPECT_NE(std::string(error.what()).find("second.undo"), std::string::npos) << error.what();
  }
  EXPECT_EQ(kit::read_file(path_), made);
  EXPECT_EQ(undo_repair(second.journal, second, context_).is, JournalState::undone);
  EXPECT_EQ(undo_repair(journal_, how(), context_).was, JournalState::undone);
  EXPECT_EQ(kit::read_file(path_), damaged_);
}

TEST_F(Repaired, WhatIsLeftOfADamagedJournalIsTakenOnlyWhenAsked) {
  apply_repair(plan_, all_, Session({}, context_), how());
  const kit::Bytes made = kit::read_file(path_);
  kit::Bytes damaged = kit::read_file(journal_);
  damaged[damaged.size() - 900] ^= std::byte{1};  // in the last write
  folder_.file("damaged", damaged);
  try {
    undo_repair(folder_ / "damaged", how(), context_);
    FAIL();
  } catch (const Error& error) {
    EXPECT_EQ(error.code(), ErrorCode::refused);
    EXPECT_NE(std::string(error.what()).find("writes are left"), std::string::npos);
  }
  EXPECT_EQ(kit::read_file(path_), made);
  ApplyOptions asked = how();
  asked.override_damaged_journal = true;
  EXPECT_TRUE(undo_repair(folder_ / "damaged", asked, context_).damaged);
  EXPECT_NE(kit::read_file(path_), made);
}

TEST_F(Repaired, EveryBitOfAJournalFlippedHarmsNothing) {
  apply_repair(plan_, all_, Session({}, context_), how());
  const kit::Bytes whole = kit::read_file(journal_);
  const kit::Bytes made = kit::read_file(path_);
  for (std::size_t at = 0; at < 600; at += kit::thinned(11)) {
    kit::Bytes flipped = whole;
    flipped[at] ^= std::byte{1} << (at % 8);
    folder_.file("flipped", flipped);
    bool said_undone = false;
    try {
      said_undone = undo_repair(folder_ / "flipped", how(), context_).is == JournalState::undone;
    } catch (const Error&) {
    }
    const kit::Bytes now = kit::read_file(path_);
    EXPECT_EQ(now, said_undone ? damaged_ : made) << at;
    if (now != made) folder_.file("station.vdi", made);
  }
}

TEST_F(Repaired, IsRefusedWhenTheDiskChangedSinceThePlan) {
  kit::Bytes other = damaged_;
  other.back() ^= std::byte{1};
  folder_.file("station.vdi", other);
  EXPECT_THROW(apply_repair(plan_, all_, Session({}, context_), how()), Error);
  EXPECT_EQ(kit::read_file(path_), other);
  EXPECT_FALSE(std::filesystem::exists(journal_));
}

TEST_F(Repaired, AStepLeftOutThatAnotherRestsOnIsSaid) {
  // The far bytes stand alone; a second change of the same ones does not.
  RepairStep again = plan_.steps.back();
  again.number = 4;
  again.writes[0].before = again.writes[0].after;
  again.writes[0].after = kit::pattern(700, 10);
  plan_.steps.push_back(again);
  try {
    apply_repair(plan_, {4}, Session({}, context_), how());
    FAIL();
  } catch (const Error& error) {
    EXPECT_EQ(error.code(), ErrorCode::usage);
  }
  EXPECT_EQ(kit::read_file(path_), damaged_);
}

TEST_F(Repaired, TwoAtOnceAreNot) {
  const auto held = open_medium(path_);
  try {
    apply_repair(plan_, all_, Session({}, context_), how());
    FAIL();
  } catch (const Error& error) {
    EXPECT_EQ(error.code(), ErrorCode::refused);
  }
  EXPECT_EQ(kit::read_file(path_), damaged_);
}

TEST_F(Repaired, APlanReadBackIsTheSame) {
  std::ostringstream text;
  JsonWriter json(text);
  json.begin_object();
  write_json(json, plan_);
  json.end_object();
  const RepairPlan read = read_plan(text.str());
  ASSERT_EQ(read.steps.size(), plan_.steps.size());
  EXPECT_EQ(read.steps[0].writes[0].after, plan_.steps[0].writes[0].after);
  ASSERT_EQ(read.sources.size(), 1u);
  EXPECT_EQ(compare(read.sources[0].identity, plan_.sources[0].identity), IdentityMatch::same);
  for (const std::size_t cut : {0u, 10u, 400u})
    EXPECT_THROW(read_plan(text.str().substr(0, cut)), Error);
  std::string edited = text.str();
  // Whether it is no number any more, or another one.
  for (const char* after : {"\"after\": \"55ag\"", "\"after\": \"55ab\""}) {
    edited.replace(edited.find("\"after\": \"55a"), 15, after);
    EXPECT_THROW(read_plan(edited), Error);
  }
}

TEST_F(Repaired, AScratchFileHoldsItBesideTheDisk) {
  const std::string file = folder_ / "trial.writes";
  {
    Context context = context_;
    context.scratch = Scratch::in_file(file, 0);
    try_repair(plan_, all_, Session({}, context), context.scratch);
    EXPECT_TRUE(plan_repair(address(), {}, Session({}, context)).steps.empty());
  }
  EXPECT_EQ(kit::read_file(path_), damaged_);
  Context later = context_;
  later.scratch = Scratch::in_file(file, 0);
  const Target target = Session({}, later).open_disk(address());
  ASSERT_EQ(target.disks.back()->volumes.size(), 1u);
  EXPECT_NE(target.disks.back()->volumes[0].file_system(), nullptr);
  // A disk that changed under it is not mixed with what it holds.
  kit::Bytes other = damaged_;
  other.back() ^= std::byte{1};
  folder_.file("station.vdi", other);
  Context mixed = context_;
  mixed.scratch = Scratch::in_file(file, 0);
  EXPECT_THROW(Session({}, mixed).open_disk(address()), Error);
}

}  // namespace
}  // namespace lantern::repair
