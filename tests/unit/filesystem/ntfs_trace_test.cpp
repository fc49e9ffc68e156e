#include <gtest/gtest.h>

#include "kit/ntfs_case.h"
#include "lantern/error.h"

namespace lantern {
namespace {

using kit::Bytes;
using kit::NtfsBuilder;

constexpr std::uint64_t kSecond = 10'000'000;
constexpr std::uint64_t kRoot = NtfsBuilder::kRoot;
constexpr std::uint64_t kNow = NtfsBuilder::kNow;
constexpr std::uint32_t kMade = 0x100;
constexpr std::uint32_t kDeleted = 0x200;
constexpr std::uint32_t kFolderBit = 0x10;

std::uint64_t reference(std::uint64_t record, std::uint16_t sequence) {
  return record | std::uint64_t{sequence} << 48;
}

// What a change journal says of a file.
struct Line {
  std::uint64_t file = 0, folder = 0;
  std::string name;
  std::uint32_t done = kDeleted;
  std::uint64_t time = kNow;
  std::uint32_t bits = 0x20;
};

Bytes units(const std::string& text) {
  Bytes bytes;
  for (const char c : text) kit::put(bytes, bytes.size(), static_cast<unsigned char>(c), 2);
  return bytes;
}

void append(Bytes& journal, const Line& line, int version = 2) {
  const std::size_t wide = version == 2 ? 8 : 16;
  Bytes bytes;
  kit::put(bytes, 4, static_cast<std::uint64_t>(version), 2);
  kit::put(bytes, 8, line.file, 8);
  kit::put(bytes, 8 + wide, line.folder, 8);
  const std::size_t at = 8 + 2 * wide;
  kit::put(bytes, at, journal.size(), 8);
  kit::put(bytes, at + 8, line.time, 8);
  kit::put(bytes, at + 0x10, line.done, 4);
  kit::put(bytes, at + 0x1C, line.bits, 4);
  kit::put(bytes, at + 0x20, line.name.size() * 2, 2);
  kit::put(bytes, at + 0x22, at + 0x24, 2);
  kit::put_bytes(bytes, at + 0x24, units(line.name));
  bytes.resize((bytes.size() + 7) / 8 * 8);
  kit::put(bytes, 0, bytes.size(), 4);
  kit::put_bytes(journal, journal.size(), bytes);
}

class NtfsTraces : public kit::NtfsCase {
 protected:
  static Bytes deleted_content() { return NtfsBuilder::resident(0x80, kit::bytes_of("two eggs")); }

  // With the hole before it that journals have.
  void lay_journal(const Bytes& journal) {
    volume_.folder(11, kRoot, "$Extend");
    volume_.record(27, 1, NtfsBuilder::kInUse,
                   {standard(), named("$UsnJrnl", 11, 1),
                    NtfsBuilder::stored(0x80, {{NtfsBuilder::kHole, 4}, {220, 8}},
                                        4096 + journal.size(), "$J")});
    volume_.write(220, journal);
    volume_.use(220, 8);
  }

  void lay_log(const Bytes& pages) {
    const std::uint64_t count = (pages.size() + 1023) / 1024;
    volume_.record(
        2, 2, NtfsBuilder::kInUse,
        {standard(), named("$LogFile"), NtfsBuilder::stored(0x80, {{300, count}}, pages.size())});
    volume_.write(300, pages);
    volume_.use(300, count);
  }
};

// Records of a log, in pages that guard their sectors.
Bytes log_of(const std::vector<Bytes>& records) {
  constexpr std::size_t kPage = 4096;
  constexpr std::size_t kFrom = 0x40;
  Bytes all;
  for (const Bytes& record : records) {
    kit::put_bytes(all, all.size(), record);
    all.resize((all.size() + 7) / 8 * 8);
  }
  Bytes log(2 * kPage);
  kit::put_text(log, 0, "RSTR");
  kit::put_text(log, kPage, "RSTR");
  for (std::size_t at = 0; at < all.size();) {
    Bytes page(kPage);
    kit::put_text(page, 0, "RCRD");
    kit::put(page, 4, 0x28, 2);
    kit::put(page, 6, 9, 2);
    const std::size_t here = std::min(all.size() - at, kPage - kFrom);
    std::copy_n(all.begin() + static_cast<std::ptrdiff_t>(at), here, page.begin() + kFrom);
    kit::put(page, 0x28, 5, 2);
    for (std::size_t i = 1; i <= 8; ++i) {
      const auto end = page.begin() + static_cast<std::ptrdiff_t>(i * 512 - 2);
      std::copy_n(end, 2, page.begin() + static_cast<std::ptrdiff_t>(0x28 + 2 * i));
      kit::put(page, i * 512 - 2, 5, 2);
    }
    kit::put_bytes(log, log.size(), page);
    at += here;
  }
  return log;
}

// A record that takes an entry out of an index; what takes it back is the entry.
Bytes taken_out(std::uint64_t number, std::uint64_t file, const Bytes& name, std::size_t before) {
  const Bytes key(name.begin() + 0x18, name.end());
  Bytes entry;
  kit::put(entry, 0, file, 8);
  kit::put(entry, 8, 0x10 + key.size(), 2);
  kit::put(entry, 0x0A, 0x42 + std::to_integer<std::size_t>(key[0x40]) * 2, 2);
  kit::put_bytes(entry, 0x10, key);
  Bytes record(0x30);
  kit::put(record, 0, number, 8);
  kit::put(record, 0x20, 1, 4);
  kit::put(record, 0x30, 0x0F, 2);
  kit::put(record, 0x32, 0x0E, 2);
  kit::put(record, 0x34, 0x20, 2);
  kit::put(record, 0x36, before, 2);
  kit::put(record, 0x38, 0x20 + before, 2);
  kit::put(record, 0x3A, entry.size(), 2);
  record.resize(0x30 + 0x20 + before);
  kit::put_bytes(record, record.size(), entry);
  kit::put(record, 0x18, record.size() - 0x30, 4);
  return record;
}

TEST_F(NtfsTraces, TheChangeJournalNamesADeletedFileAndSaysWhen) {
  volume_.folder(30, kRoot, "Photos");
  volume_.record(31, 2, 0, {standard(), deleted_content()});
  Bytes journal;
  append(journal, {reference(31, 1), reference(30, 1), "puffin.txt", kMade, kNow - kSecond});
  append(journal, {reference(31, 1), reference(30, 1), "gannet.txt", kDeleted, kNow + kSecond}, 3);
  lay_journal(journal);
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
  append(journal, {reference(32, 1), reference(30, 1), "1987", kMade, kNow, kFolderBit});
  append(journal, {reference(31, 1), reference(32, 1), "gannet.jpg", kDeleted, kNow + kSecond});
  append(journal, {reference(31, 3), reference(kRoot, 5), "new.txt", kMade, kNow});
  lay_journal(journal);
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
  lay_log(log_of({taken_out(70, reference(31, 1), NtfsBuilder::name(30, 1, "tern.txt", kNow), 3990),
                  taken_out(71, reference(32, 2), NtfsBuilder::name(30, 1, "shag.txt", kNow), 8)}));
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
  EXPECT_NE(found.at("/record-30-2").evidence.find("by what lay in it"), std::string::npos);
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
  append(journal, {reference(31, 1), reference(kRoot, 5), "count.csv", kDeleted, kNow + 5});
  lay_journal(journal);
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

TEST_F(NtfsTraces, JournalAndLogOfRubbishTellNothing) {
  volume_.small(30, kRoot, "log.txt", {});
  Bytes rubbish = kit::pattern(8 * 1024, 9);
  lay_journal(rubbish);
  Bytes log = log_of({kit::pattern(9000, 10), taken_out(1, 0, NtfsBuilder::name(5, 5, "", 0), 8)});
  lay_log(log);
  EXPECT_EQ(all(*open()).size(), 1u);
}

}  // namespace
}  // namespace lantern
