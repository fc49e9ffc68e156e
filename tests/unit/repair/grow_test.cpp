#include <gtest/gtest.h>

#include "base/store.h"
#include "kit/bytes.h"
#include "kit/disk_builder.h"
#include "lantern/error.h"
#include "lantern/repair/grow.h"
#include "lantern/sources.h"
#include "repair/grow/image/image_growth.h"
#include "repair/grow/table_growth.h"
#include "volume/lvm/edit.h"

namespace lantern::repair {
namespace {

constexpr std::size_t kMiB = 1u << 20;

// A disk in a file, opened.
struct Bench {
  Bench(const Bytes& bytes, const std::string& name)
      : target(Session({}, context).open_disk({folder.file(name, bytes), {}})) {}
  const DiskLayer& disk() const { return target.disk(); }
  const VolumeLayer& volume(std::size_t index) const { return target.disk().volumes[index]; }
  Context context;
  kit::Folder folder;
  Target target;
};

// The disk with what a step writes to it, and its rows then.
std::vector<VolumeRow> rows_after(const Bytes& disk, const RepairStep& step) {
  Bytes after = disk;
  for (const PlannedWrite& write : step.writes)
    store_bytes(after, static_cast<std::size_t>(write.offset_bytes), write.after);
  Context context;
  const auto table = read_volume_table(make_memory_source(after), 512, known_formats(), context);
  EXPECT_FALSE(context.findings->worse_than_note());
  return table.rows;
}

TEST(GrowTable, AVolumeOfAGptReachesToTheNextOrTheEnd) {
  Bytes disk(16 * kMiB);
  kit::put_gpt(disk, 512, {{2048, 8191, "lamp", false}, {16384, 24575, "keeper", false}});
  disk.resize(20 * kMiB);
  const Bench bench(disk, "station.img");
  auto rows = rows_after(disk, lengthen_volume(bench.disk(), bench.volume(0)));
  EXPECT_EQ(rows.at(0).range, (Range{2048 * 512, (16384 - 2048) * 512}));
  rows = rows_after(disk, lengthen_volume(bench.disk(), bench.volume(1)));
  EXPECT_EQ(rows.at(0).range.length, 6144u * 512) << "the other stays";
  EXPECT_EQ(rows.at(1).range.offset, 16384u * 512);
  EXPECT_GT(rows.at(1).range.end(), 20 * kMiB - 64 * 512);
  EXPECT_LE(rows.at(1).range.end(), 20 * kMiB - 33 * 512) << "the spare copy lies behind it";
}

TEST(GrowTable, AVolumeOfAnMbrToo) {
  Bytes disk(16 * kMiB);
  kit::put_mbr(disk, 0, {{0x83, 2048, 6144}, {0x83, 16384, 8192}});
  const Bench bench(disk, "station.img");
  auto rows = rows_after(disk, lengthen_volume(bench.disk(), bench.volume(0)));
  EXPECT_EQ(rows.at(0).range.end(), 16384u * 512);
  rows = rows_after(disk, lengthen_volume(bench.disk(), bench.volume(1)));
  EXPECT_EQ(rows.at(1).range.end(), 16 * kMiB);
  Bytes full(16 * kMiB);
  kit::put_mbr(full, 0, {{0x83, 2048, 16 * 2048 - 2048}});
  const Bench none(full, "full.img");
  EXPECT_TRUE(lengthen_volume(none.disk(), none.volume(0)).writes.empty());
}

TEST(GrowTable, WhatOverlapsIsLeftAlone) {
  Bytes disk(16 * kMiB);
  kit::put_mbr(disk, 0, {{0x83, 2048, 8192}, {0x83, 4096, 8192}});
  const Bench bench(disk, "station.img");
  EXPECT_THROW(lengthen_volume(bench.disk(), bench.volume(0)), Error);
}

TEST(GrowImage, ARawFileBecomesLongerByItsLastByte) {
  const Bench bench(Bytes(4 * kMiB), "station.img");
  const RepairStep step = grow_image(bench.disk(), 9 * kMiB, Context());
  ASSERT_EQ(step.writes.size(), 1u);
  EXPECT_EQ(step.writes[0].offset_bytes, 9 * kMiB - 1);
  EXPECT_TRUE(step.writes[0].address.ends_with("::bytes"));
}

// The disk of an image file after the step, and what is reported on opening it.
Bytes disk_after(const Bytes& file, const std::string& name, const RepairStep& step) {
  Bytes after = file;
  for (const PlannedWrite& write : step.writes) {
    const std::size_t end = static_cast<std::size_t>(write.offset_bytes) + write.after.size();
    if (end > after.size()) after.resize(end);
    store_bytes(after, static_cast<std::size_t>(write.offset_bytes), write.after);
  }
  const Bench bench(after, name);
  EXPECT_FALSE(bench.context.findings->worse_than_note()) << name;
  Bytes flat(static_cast<std::size_t>(bench.disk().bytes->size()));
  bench.disk().bytes->read(0, flat);
  return flat;
}

TEST(GrowImage, AVdiWhoseMapHasNoRoomMovesItsFirstBlocks) {
  Bytes disk(4 * kMiB);
  kit::put_mbr(disk, 0, {{0x83, 2048, 2048}});
  std::fill(disk.begin() + 3 * kMiB, disk.end(), std::byte{0x5A});
  for (const bool fixed : {false, true}) {
    const Bytes file = kit::make_vdi(disk, {1u << 20, fixed, false});
    const Bench bench(file, "station.vdi");
    const std::uint64_t room = (le32(file, 0x158) - kit::kVdiMapAt) / 4 * kMiB;
    for (const std::uint64_t to :
         fixed ? std::vector{room + kMiB} : std::vector{7 * kMiB, room, room + kMiB}) {
      Bytes expected = disk;
      expected.resize(static_cast<std::size_t>(to));
      EXPECT_TRUE(disk_after(file, "station.vdi", grow_image(bench.disk(), to, Context())) ==
                  expected)
          << to;
    }
  }
}

TEST(GrowGroup, OnlyWhatIsNamedChangesInAText) {
  std::string text =
      "skua {\nseqno = 4\n# seqno = 9 }\nname = \"a { = \\\" b\"\npv {\nseqno = 7\t# old\n}\n}\n"
      "seqno = 1\n";
  const std::string before = text;
  EXPECT_FALSE(lvm::set_value(text, {"skua"}, "size", "1"));
  EXPECT_FALSE(lvm::append_lines(text, {"pv"}, "x\n"));
  EXPECT_EQ(text, before);
  EXPECT_TRUE(lvm::set_value(text, {"skua", "pv"}, "seqno", "70"));
  EXPECT_TRUE(lvm::set_value(text, {"skua"}, "seqno", "5"));
  EXPECT_TRUE(lvm::append_lines(text, {"skua", "pv"}, "x = 1\n"));
  EXPECT_EQ(
      text,
      "skua {\nseqno = 5\n# seqno = 9 }\nname = \"a { = \\\" b\"\npv {\nseqno = 70\nx = 1\n}\n}\n"
      "seqno = 1\n");
}

}  // namespace
}  // namespace lantern::repair
