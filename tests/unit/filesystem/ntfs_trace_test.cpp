#include <gtest/gtest.h>

#include "kit/ntfs_case.h"
#include "kit/ntfs_traces.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using kit::Bytes;
using kit::JournalLine;
using kit::NtfsBuilder;
using kit::reference;

constexpr std::uint64_t kSecond = 10'000'000;
constexpr std::uint64_t kRoot = NtfsBuilder::kRoot;
constexpr std::uint64_t kNow = NtfsBuilder::kNow;

class NtfsTraces : public kit::NtfsCase {
 protected:
  static Bytes deleted_content() { return NtfsBuilder::resident(0x80, kit::bytes_of("two eggs")); }

  // With the hole before it that journals have.
  void store_journal(const Bytes& journal) {
    volume_.folder(11, kRoot, "$Extend");
    volume_.record(27, 1, NtfsBuilder::kInUse,
                   {standard(), named("$UsnJrnl", 11, 1),
                    NtfsBuilder::stored(0x80, {{NtfsBuilder::kHole, 4}, {220, 8}},
                                        4096 + journal.size(), "$J")});
    volume_.write(220, journal);
    volume_.use(220, 8);
  }

  void store_log(const Bytes& pages) {
    const std::uint64_t count = (pages.size() + 1023) / 1024;
    volume_.record(
        2, 2, NtfsBuilder::kInUse,
        {standard(), named("$LogFile"), NtfsBuilder::stored(0x80, {{300, count}}, pages.size())});
    volume_.write(300, pages);
    volume_.use(300, count);
  }
};

TEST_F(NtfsTraces, TheChangeJournalNamesADeletedFileAndSaysWhen) {
  volume_.folder(30, kRoot, "Photos");
  volume_.record(31, 2, 0, {standard(), deleted_content()});
  Bytes journal;
  kit::append(journal, {reference(31, 1), reference(30, 1), "puffin.txt", JournalLine::kMade,
                        kNow - kSecond});
  kit::append(
      journal,
      {reference(31, 1), reference(30, 1), "gannet.txt", JournalLine::kDeleted, kNow + kSecond}, 3);
  store_journal(journal);
  const auto found = all(*open());
  ASSERT_TRUE(found.contains("/Photos/gannet.txt"));
  const Entry& entry = found.at("/Photos/gannet.txt");
  EXPECT_EQ(entry.intact, 1);
  ASSERT_TRUE(entry.deleted_at && entry.created);
  EXPECT_EQ(entry.deleted_at->seconds, entry.created->seconds + 1);
  EXPECT_NE(entry.evidence.find("its name in the change journal"), std::string::npos);
  EXPECT_FALSE(found.contains("/Photos/puffin.txt"));
}

TEST_F(NtfsTraces, AFileWhoseRecordIsAnothersIsKnownByTheJournalUnderItsFolderOfThen) {
  volume_.folder(30, kRoot, "Photos");
  volume_.small(31, kRoot, "new.txt", {});
  volume_.record(31, 3, 1, {standard(), named("new.txt"), deleted_content()});
  volume_.record(32, 2, 1, {standard(), named("also new.txt"), deleted_content()});
  Bytes journal;
  kit::append(journal, {reference(32, 1), reference(30, 1), "1987", JournalLine::kMade, kNow,
                        JournalLine::kFolderBit});
  kit::append(journal, {reference(31, 1), reference(32, 1), "gannet.jpg", JournalLine::kDeleted,
                        kNow + kSecond});
  kit::append(journal,
              {reference(31, 3), reference(kRoot, 5), "new.txt", JournalLine::kMade, kNow});
  store_journal(journal);
  const auto files = open();
  const auto found = all(*files);
  ASSERT_TRUE(found.contains("/Photos/1987/gannet.jpg"));
  const Entry& entry = found.at("/Photos/1987/gannet.jpg");
  EXPECT_EQ(entry.id, "31-1");
  EXPECT_EQ(entry.parent, "32-1");
  EXPECT_EQ(entry.state, EntryState::deleted);
  EXPECT_EQ(entry.intact, 0);
  EXPECT_TRUE(entry.deleted_at.has_value());
  EXPECT_EQ(found.at("/Photos/1987").kind, EntryKind::folder);
  EXPECT_FALSE(found.at("/Photos/1987").intact);
  EXPECT_EQ(files->open(entry).bytes->size(), 0u);
  const auto then = files->entry("31-1");
  const auto now = files->entry("31-3");
  ASSERT_TRUE(then && now);
  EXPECT_EQ(then->path, entry.path);
  EXPECT_EQ(now->path.back(), "new.txt");
  // The journal's own folder is the file system's.
  EXPECT_EQ(found.size(), 5u);
}

TEST_F(NtfsTraces, TheLogNamesWhatWasTakenOutOfAnIndexAcrossItsPages) {
  volume_.folder(30, kRoot, "Photos");
  volume_.record(31, 2, 0, {standard(), deleted_content()});
  volume_.record(32, 5, 1, {standard(), named("new.txt"), deleted_content()});
  store_log(kit::log_of(
      {kit::taken_out(70, reference(31, 1), NtfsBuilder::name(30, 1, "tern.txt", kNow), 3990),
       kit::taken_out(71, reference(32, 2), NtfsBuilder::name(30, 1, "shag.txt", kNow), 8)}));
  const auto found = all(*open());
  ASSERT_TRUE(found.contains("/Photos/tern.txt"));
  EXPECT_NE(found.at("/Photos/tern.txt").evidence.find("the log"), std::string::npos);
  EXPECT_EQ(found.at("/Photos/tern.txt").intact, 1);
  ASSERT_TRUE(found.contains("/Photos/shag.txt"));
  EXPECT_EQ(found.at("/Photos/shag.txt").intact, 0);
}

TEST_F(NtfsTraces, WhatLayInALostFolderStaysTogether) {
  volume_.small(30, kRoot, "new.txt", {});
  volume_.record(30, 4, 1, {standard(), named("new.txt"), deleted_content()});
  volume_.record(31, 2, 0, {standard(), named("a.txt", 30, 2), deleted_content()});
  volume_.record(32, 2, 0, {standard(), named("b.txt", 30, 2), deleted_content()});
  volume_.record(33, 1, 1, {standard(), named("c.txt", 30, 2), deleted_content()});
  const auto found = all(*open());
  EXPECT_TRUE(found.contains("/record-30-2/a.txt"));
  EXPECT_TRUE(found.contains("/record-30-2/b.txt"));
  EXPECT_EQ(found.at("/record-30-2/c.txt").state, EntryState::orphan);
  EXPECT_NE(found.at("/record-30-2").evidence.find("by what was in it"), std::string::npos);
  EXPECT_EQ(found.size(), 5u);
}

TEST_F(NtfsTraces, RecordsThatWentOnWithALostOneGiveItsContentBack) {
  const Bytes content = kit::pattern(6000, 3);
  volume_.write(120, content);
  volume_.record(31, 3, 1, {standard(), named("new.txt"), deleted_content()});
  volume_.record(32, 2, 0, {NtfsBuilder::stored(0x80, {{120, 4}}, content.size())}, 31, 1);
  volume_.record(33, 2, 0, {NtfsBuilder::stored(0x80, {{124, 2}}, 0, {}, 0, 4)}, 31, 1);
  // Of another, only the end is told of.
  volume_.record(34, 2, 0, {NtfsBuilder::stored(0x80, {{140, 2}}, 0, {}, 0, 1)}, 31, 2);
  volume_.write(140, kit::pattern(2048, 4));
  Bytes journal;
  kit::append(journal, {reference(31, 1), reference(kRoot, 5), "count.csv", JournalLine::kDeleted,
                        kNow + 5});
  store_journal(journal);
  const auto files = open();
  const auto found = all(*files);
  ASSERT_TRUE(found.contains("/count.csv"));
  const Entry& entry = found.at("/count.csv");
  EXPECT_EQ(entry.size_bytes, content.size());
  EXPECT_EQ(kit::read_all(*files->open(entry).bytes), content);
  EXPECT_DOUBLE_EQ(entry.intact.value_or(0), 0.99);
  const auto end = files->entry("31-2");
  ASSERT_TRUE(end);
  EXPECT_EQ(end->size_bytes, 3072u);
  EXPECT_EQ(files->open(*end).lost, (std::vector<Range>{{0, 1024}}));
}

TEST_F(NtfsTraces, RecordsThatADeletedFilesListNoLongerTellsOfAreItsOwn) {
  const Bytes content = kit::pattern(6000, 3);
  volume_.write(120, content);
  volume_.record(31, 2, 0,
                 {standard(), NtfsBuilder::resident(0x20, NtfsBuilder::list_entry(0x80, 0, 31, 1)),
                  named("count.csv"), NtfsBuilder::stored(0x80, {{120, 4}}, content.size())});
  volume_.record(33, 2, 0, {NtfsBuilder::stored(0x80, {{124, 2}}, 0, {}, 0, 4)}, 31, 1);
  const auto files = open();
  const auto found = all(*files);
  EXPECT_EQ(found.at("/count.csv").intact, 1);
  EXPECT_EQ(kit::read_all(*files->open(found.at("/count.csv")).bytes), content);
  EXPECT_EQ(found.size(), 1u);
}

TEST_F(NtfsTraces, JournalAndLogOfRubbishTellNothing) {
  volume_.small(30, kRoot, "log.txt", {});
  Bytes rubbish = kit::pattern(8 * 1024, 9);
  store_journal(rubbish);
  Bytes log = kit::log_of(
      {kit::pattern(9000, 10), kit::taken_out(1, 0, NtfsBuilder::name(5, 5, "", 0), 8)});
  store_log(log);
  EXPECT_EQ(all(*open()).size(), 1u);
}

}  // namespace
}  // namespace lantern
