// Log entries laid by MS-VHDX 2.3, in a file of 64 KiB of which the second half is the log.
#include "container/vhdx/log.h"

#include <gtest/gtest.h>

#include "base/crc32c.h"
#include "kit/bytes.h"

namespace lantern {
namespace {

constexpr std::size_t kSector = 4096;
constexpr Range kLog{8 * kSector, 8 * kSector};
constexpr std::array<std::byte, 16> kId{std::byte{0x5C}, std::byte{0xE2}};

kit::Bytes before() {
  kit::Bytes file = kit::pattern(kLog.offset, 1);
  file.resize(kLog.end());
  return file;
}

// An entry of two sectors that writes `sector` over the file's sector `number`.
void add_entry(kit::Bytes& file, std::size_t at, std::uint64_t sequence, std::size_t tail,
               std::size_t number, const kit::Bytes& sector) {
  kit::Bytes entry(2 * kSector);
  kit::put_text(entry, 0, "loge");
  kit::put(entry, 8, entry.size(), 4);
  kit::put(entry, 12, tail, 4);
  kit::put(entry, 16, sequence, 8);
  kit::put(entry, 24, 1, 4);
  kit::put_bytes(entry, 32, {kId.begin(), kId.end()});
  kit::put(entry, 48, file.size(), 8);
  kit::put(entry, 56, file.size(), 8);
  kit::put_text(entry, 64, "desc");
  kit::put_bytes(entry, 68, {sector.end() - 4, sector.end()});
  kit::put_bytes(entry, 72, {sector.begin(), sector.begin() + 8});
  kit::put(entry, 80, number * kSector, 8);
  kit::put(entry, 88, sequence, 8);
  kit::put_text(entry, kSector, "data");
  kit::put(entry, kSector + 4, sequence >> 32, 4);
  kit::put_bytes(entry, kSector + 8, {sector.begin() + 8, sector.end() - 4});
  kit::put(entry, 2 * kSector - 4, sequence & 0xFFFFFFFF, 4);
  kit::put(entry, 4, crc32c_without(entry, 4), 4);
  for (std::size_t i = 0; i < entry.size(); ++i)
    file[kLog.offset + (at + i) % kLog.length] = entry[i];
}

kit::Bytes sector_of(const SourcePtr& file, std::size_t number) {
  return kit::read_all(*make_window(file, {number * kSector, kSector}));
}

SourcePtr replay(const kit::Bytes& file) {
  return replay_vhdx_log(make_memory_source(file), kLog, kId, Context());
}

TEST(VhdxLog, WritesAreMadeInMemoryTheLastOneWins) {
  kit::Bytes file = before();
  add_entry(file, 0, 7, 0, 2, kit::pattern(kSector, 70));
  add_entry(file, 2 * kSector, 8, 0, 2, kit::pattern(kSector, 80));
  add_entry(file, 4 * kSector, 9, 0, 5, kit::pattern(kSector, 90));
  const SourcePtr replayed = replay(file);
  EXPECT_EQ(sector_of(replayed, 2), kit::pattern(kSector, 80));
  EXPECT_EQ(sector_of(replayed, 5), kit::pattern(kSector, 90));
  EXPECT_EQ(sector_of(replayed, 3), sector_of(make_memory_source(file), 3));
}

TEST(VhdxLog, AnEntryMayLieAroundTheEnd) {
  kit::Bytes file = before();
  add_entry(file, 7 * kSector, 7, 7 * kSector, 1, kit::pattern(kSector, 70));
  EXPECT_EQ(sector_of(replay(file), 1), kit::pattern(kSector, 70));
}

TEST(VhdxLog, WhatIsBeforeTheTailIsDone) {
  kit::Bytes file = before();
  add_entry(file, 0, 7, 0, 2, kit::pattern(kSector, 70));
  add_entry(file, 2 * kSector, 8, 2 * kSector, 3, kit::pattern(kSector, 80));
  const SourcePtr replayed = replay(file);
  EXPECT_EQ(sector_of(replayed, 2), sector_of(make_memory_source(file), 2));
  EXPECT_EQ(sector_of(replayed, 3), kit::pattern(kSector, 80));
}

TEST(VhdxLog, AHurtEntryEndsTheRun) {
  kit::Bytes file = before();
  add_entry(file, 0, 7, 0, 2, kit::pattern(kSector, 70));
  add_entry(file, 2 * kSector, 8, 0, 2, kit::pattern(kSector, 80));
  file[kLog.offset + 3 * kSector + 100] ^= std::byte{1};
  EXPECT_EQ(sector_of(replay(file), 2), kit::pattern(kSector, 70));
}

TEST(VhdxLog, AnotherDisksEntriesAreNotOurs) {
  kit::Bytes file = before();
  add_entry(file, 0, 7, 0, 2, kit::pattern(kSector, 70));
  const SourcePtr source = make_memory_source(file);
  EXPECT_EQ(replay_vhdx_log(source, kLog, {std::byte{9}}, Context()), source);
}

}  // namespace
}  // namespace lantern
