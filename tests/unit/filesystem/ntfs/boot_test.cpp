#include "filesystem/ntfs/boot.h"

#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "kit/ntfs_builder.h"
#include "lantern/sources.h"

namespace lantern::ntfs {
namespace {

using kit::Bytes;

Bytes sector() {
  const Bytes volume = kit::NtfsBuilder().bytes();
  return {volume.begin(), volume.begin() + 512};
}

TEST(NtfsBoot, FiguresAreReadAsTheyAreStored) {
  const auto geometry = parse_boot_sector(sector(), 7);
  ASSERT_TRUE(geometry);
  EXPECT_EQ(geometry->cluster_bytes, kit::NtfsBuilder::kCluster);
  EXPECT_EQ(geometry->record_bytes, 1024u);
  EXPECT_EQ(geometry->table_cluster, kit::NtfsBuilder::kTable);
  EXPECT_EQ(geometry->mirror_cluster, kit::NtfsBuilder::kMirror);
  EXPECT_EQ(geometry->place, 7u);
}

TEST(NtfsBoot, FiguresThatCannotBeAreNone) {
  const std::vector<std::pair<std::size_t, std::uint64_t>> wrong = {
      {0x0B, 0},                  // bytes of a sector
      {0x0B, 500},                // no power of two
      {0x0D, 0},                  // sectors of a cluster
      {0x0D, 3},                  //
      {0x28, 0},                  // sectors of the volume
      {0x28, ~std::uint64_t{0}},  // more than there can be
      {0x40, 0},                  // clusters of a record
      {0x40, 0x80},               // minus 128: a power of two nothing can hold
      {0x1FE, 0}};                // the mark at the end
  for (const auto& [at, value] : wrong) {
    Bytes damaged = sector();
    kit::put(damaged, at, value, at == 0x28 ? 8 : at == 0x0B || at == 0x1FE ? 2 : 1);
    EXPECT_FALSE(parse_boot_sector(damaged)) << "at " << at << ": " << value;
  }
  // The mirror is enough where the table's place is lost.
  Bytes damaged = sector();
  kit::put(damaged, 0x30, ~std::uint64_t{0}, 8);
  EXPECT_TRUE(parse_boot_sector(damaged));
  kit::put(damaged, 0x38, ~std::uint64_t{0}, 8);
  EXPECT_FALSE(parse_boot_sector(damaged));
}

TEST(NtfsBoot, CopiesAreFoundAtTheEnd) {
  Bytes volume = kit::NtfsBuilder().bytes();
  const auto all = find_geometries(*make_memory_source(volume));
  ASSERT_FALSE(all.empty());
  EXPECT_EQ(all.front().place, 0u);
  std::fill_n(volume.begin(), 512, std::byte{0});
  kit::put_bytes(volume, volume.size() - 512, sector());
  const auto copies = find_geometries(*make_memory_source(volume));
  ASSERT_FALSE(copies.empty());
  EXPECT_EQ(copies.front().place, volume.size() - 512);
  EXPECT_TRUE(find_geometries(*make_memory_source(Bytes(100))).empty());
}

TEST(NtfsBoot, FiguresByHandAreCheckedLikeThoseOfADisk) {
  constexpr std::uint64_t kSize = 1 << 20;
  const auto made = geometry_by_hand({{"table", 8192}, {"cluster", 1024}}, kSize);
  ASSERT_EQ(made.size(), 1u);
  EXPECT_EQ(made[0].table_cluster, 8u);
  EXPECT_EQ(made[0].volume_bytes, kSize);
  EXPECT_EQ(made[0].sector_bytes, 512u);
  EXPECT_TRUE(geometry_by_hand({}, kSize).empty()) << "without a place of the table";
  EXPECT_TRUE(geometry_by_hand({{"table", kSize}}, kSize).empty());
  EXPECT_TRUE(geometry_by_hand({{"table", 8192}, {"sector", 8192}}, kSize).empty());
  EXPECT_TRUE(geometry_by_hand({{"table", 8192}, {"cluster", 4u << 20}}, kSize).empty());
  EXPECT_TRUE(geometry_by_hand({{"table", 8192}, {"record", 100}}, kSize).empty());
}

}  // namespace
}  // namespace lantern::ntfs
