#include <gtest/gtest.h>

#include "base/store.h"
#include "kit/bytes.h"
#include "kit/disk_builder.h"
#include "lantern/error.h"
#include "lantern/repair/grow.h"
#include "lantern/sources.h"
#include "repair/grow/image_growth.h"
#include "repair/grow/table_growth.h"

namespace lantern::repair {
namespace {

constexpr std::size_t kMiB = 1u << 20;

// A disk in a file, opened.
struct Bench {
  Bench(const Bytes& bytes, const std::string& name)
      : target(Session({}, Context()).open_disk({folder.file(name, bytes), {}})) {}
  const DiskLayer& disk() const { return target.disk(); }
  const VolumeLayer& volume(std::size_t index) const { return target.disk().volumes[index]; }
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
  const RepairStep step = grow_image(bench.disk(), 9 * kMiB);
  ASSERT_EQ(step.writes.size(), 1u);
  EXPECT_EQ(step.writes[0].offset_bytes, 9 * kMiB - 1);
  EXPECT_TRUE(step.writes[0].address.ends_with("::bytes"));
}

TEST(GrowImage, AVdiAsFarAsItsMapHasRoom) {
  Bytes disk(4 * kMiB);
  kit::put_mbr(disk, 0, {{0x83, 2048, 2048}});
  const Bench bench(kit::make_vdi(disk, {}), "station.vdi");
  ASSERT_EQ(bench.disk().container.format, "vdi");
  const Bytes head = kit::make_vdi(disk, {});
  const std::uint64_t room = (le32(head, 0x158) - kit::kVdiMapAt) / 4 * kMiB;
  EXPECT_NO_THROW(grow_image(bench.disk(), room));
  EXPECT_THROW(grow_image(bench.disk(), room + kMiB), Error);
  const Bench fixed(kit::make_vdi(disk, {1u << 20, true, false}), "fixed.vdi");
  EXPECT_THROW(grow_image(fixed.disk(), 8 * kMiB), Error);
}

}  // namespace
}  // namespace lantern::repair
