#include <gtest/gtest.h>

#include "kit/disk_builder.h"
#include "lantern/volume_table.h"

namespace lantern {
namespace {

using kit::Bytes;
using Codes = std::vector<std::string>;

constexpr std::size_t kMiB = 1 << 20;

VolumeTable read(const Bytes& disk, const Context& context,
                 std::optional<std::uint32_t> sector = {}) {
  return read_volume_table(make_memory_source(disk), sector, known_formats(), context);
}

std::vector<std::pair<std::uint64_t, Range>> rows(const VolumeTable& table) {
  std::vector<std::pair<std::uint64_t, Range>> found;
  for (const VolumeRow& row : table.rows) found.emplace_back(row.number, row.range);
  return found;
}

using Rows = std::vector<std::pair<std::uint64_t, Range>>;

TEST(Mbr, PrimaryAndLogicalVolumesKeepTheirNumbers) {
  Bytes disk(8 * kMiB);
  kit::put_mbr(disk, 0, {{0x0C, 2048, 1000, true}, {0, 0, 0, false}, {0x05, 4096, 8000, false}});
  kit::put_mbr(disk, 4096 * 512, {{0x06, 63, 1000, false}, {0x05, 2000, 2000, false}});
  kit::put_mbr(disk, 6096 * 512, {{0x83, 63, 500, false}});
  const Context context;
  const VolumeTable table = read(disk, context);
  EXPECT_EQ(table.scheme, "mbr");
  EXPECT_EQ(rows(table), (Rows{{1, {2048 * 512, 1000 * 512}},
                               {5, {(4096 + 63) * 512, 1000 * 512}},
                               {6, {(6096 + 63) * 512, 500 * 512}}}));
  EXPECT_TRUE(table.rows[0].active);
  EXPECT_EQ(table.rows[0].type, "FAT32 (LBA)");
  EXPECT_EQ(kit::codes(context), Codes{});
}

TEST(Mbr, ALogicalChainThatLoopsEnds) {
  Bytes disk(8 * kMiB);
  kit::put_mbr(disk, 0, {{0x0F, 4096, 8000, false}});
  kit::put_mbr(disk, 4096 * 512, {{0x06, 63, 1000, false}, {0x05, 2000, 2000, false}});
  kit::put_mbr(disk, 6096 * 512, {{0x06, 63, 500, false}, {0x05, 0xFFFFF000, 2000, false}});
  Context context;
  EXPECT_EQ(rows(read(disk, context)).size(), 2u);
  EXPECT_EQ(kit::codes(context).size(), 1u);  // leads off the disk
  EXPECT_EQ(kit::codes(context)[0].substr(0, 18), "mbr.logical-broken");

  kit::put_mbr(disk, 6096 * 512, {{0x06, 63, 500, false}, {0x05, 2000, 2000, false}});
  context = Context();
  EXPECT_EQ(rows(read(disk, context)).size(), 2u);
  EXPECT_EQ(kit::codes(context), Codes{"mbr.logical-loop@3121152"});
}

TEST(Mbr, VolumesPastTheEndAndOverlapsAreFindings) {
  Bytes disk(4 * kMiB);
  kit::put_mbr(disk, 0, {{0x06, 2048, 4096, false}, {0x06, 4096, 0xFFFFFFFF, false}});
  const Context context;
  const VolumeTable table = read(disk, context);
  EXPECT_EQ(table.rows.size(), 2u);
  EXPECT_EQ(table.rows[1].range.length, 0xFFFFFFFFull * 512);
  EXPECT_EQ(kit::codes(context), (Codes{"mbr.past-end@2097152", "mbr.overlap@2097152"}));
}

TEST(Mbr, ATableMadeForLargeSectorsIsReadSo) {
  Bytes disk(8 * kMiB);
  kit::put_mbr(disk, 0, {{0x0C, 256, 1000, false}});
  kit::put(disk, 256 * 4096 + 510, 0xAA55, 2);  // a boot sector stands there, and none at 512
  const VolumeTable table = read(disk, Context());
  EXPECT_EQ(table.sector_size, 4096u);
  EXPECT_EQ(rows(table), (Rows{{1, {256 * 4096, 1000 * 4096}}}));
}

TEST(VolumeTable, NothingIsNoTable) {
  const Context context;
  for (const std::size_t size :
       {std::size_t{1}, std::size_t{511}, std::size_t{512}, std::size_t{4096}, kMiB}) {
    EXPECT_FALSE(read(Bytes(size), context).is_there());
    EXPECT_FALSE(read(kit::pattern(size, 3), context).is_there());
  }
  EXPECT_EQ(kit::codes(context), Codes{});
}

class Gpt : public ::testing::TestWithParam<std::uint32_t> {
 protected:
  std::uint32_t sector() const { return GetParam(); }
  std::size_t last() const { return disk_.size() - sector(); }
  void SetUp() override {
    disk_.resize(4096 * 200);
    kit::put_gpt(disk_, sector(), {{40, 59, "Keeper"}, {0, 0, {}}, {60, 99, "Photographs"}});
  }
  Rows both() const {
    return {{1, {40ull * sector(), 20ull * sector()}},
            {2, {0, sector()}},
            {3, {60ull * sector(), 40ull * sector()}}};
  }
  Bytes disk_;
  Context context_;
};

INSTANTIATE_TEST_SUITE_P(Sectors, Gpt, ::testing::Values(512u, 4096u));

TEST_P(Gpt, ReadsBothSectorSizes) {
  const VolumeTable table = read(disk_, context_);
  EXPECT_EQ(table.scheme, "gpt");
  EXPECT_EQ(table.sector_size, sector());
  EXPECT_EQ(rows(table), both());
  EXPECT_EQ(table.rows[0].name, "Keeper");
  EXPECT_EQ(table.rows[0].type, "basic data");
  EXPECT_EQ(kit::codes(context_), Codes{});
}

TEST_P(Gpt, BadPrimaryChecksumUsesBackup) {
  const Bytes damaged = kit::patched(disk_, {{sector() + 40, {0x77}}});
  EXPECT_EQ(rows(read(damaged, context_)), both());
  EXPECT_EQ(kit::codes(context_), (Codes{"gpt.primary-header@" + std::to_string(sector())}));
}

TEST_P(Gpt, WipedPrimaryUsesBackup) {
  Bytes damaged = disk_;
  std::fill_n(damaged.begin(), 34 * sector(), std::byte{0});
  EXPECT_EQ(rows(read(damaged, context_)), both());
  EXPECT_EQ(kit::codes(context_),
            (Codes{"gpt.no-protective@0", "gpt.primary-header@" + std::to_string(sector())}));
}

TEST_P(Gpt, WipedBackupIsAFindingAndPrimaryIsUsed) {
  Bytes damaged = disk_;
  std::fill_n(damaged.end() - static_cast<std::ptrdiff_t>(sector()), sector(), std::byte{0});
  EXPECT_EQ(rows(read(damaged, context_)), both());
  EXPECT_EQ(kit::codes(context_), (Codes{"gpt.backup-header@" + std::to_string(last())}));
}

TEST_P(Gpt, HurtEntriesOfThePrimaryAreTakenFromTheBackup) {
  const Bytes damaged = kit::patched(disk_, {{2 * sector() + 32, {0x99, 0x99}}});
  EXPECT_EQ(rows(read(damaged, context_)), both());
  EXPECT_EQ(kit::codes(context_), (Codes{"gpt.primary-entries@" + std::to_string(2 * sector())}));
}

TEST_P(Gpt, AbsurdEntryCountAndSizeAreRefusedByTheCopy) {
  for (const int at : {80, 84}) {
    Bytes damaged = disk_;
    kit::put(damaged, sector() + static_cast<std::size_t>(at), 0xFFFFFFFF, 4);
    kit::mend_gpt_checksum(damaged, sector());
    Context context;
    EXPECT_EQ(rows(read(damaged, context)), both());
    EXPECT_EQ(kit::codes(context), (Codes{"gpt.primary-header@" + std::to_string(sector())}));
  }
}

TEST_P(Gpt, EntriesOffTheDiskAreLeftOutAndOverlapsTold) {
  Bytes disk(4096 * 200);
  kit::put_gpt(disk, sector(),
               {{1ull << 60, (1ull << 60) + 9, "far"},
                {90, 40, "backwards"},
                {40, 80, "a"},
                {70, 90, "b"},
                {100, ~0ull, "long"}});
  const VolumeTable table = read(disk, context_);
  EXPECT_EQ(rows(table), (Rows{{3, {40ull * sector(), 41ull * sector()}},
                               {4, {70ull * sector(), 21ull * sector()}}}));
  const Codes found = kit::codes(context_);
  EXPECT_EQ(std::count_if(found.begin(), found.end(),
                          [](const auto& c) { return c.starts_with("gpt.past-end"); }),
            3);
  EXPECT_EQ(std::count_if(found.begin(), found.end(),
                          [](const auto& c) { return c.starts_with("gpt.overlap"); }),
            1);
}

TEST_P(Gpt, ALargerDiskFindsItsBackupThroughThePrimary) {
  Bytes larger = disk_;
  larger.resize(larger.size() + 64 * 4096);
  EXPECT_EQ(rows(read(larger, context_)), both());
  EXPECT_EQ(kit::codes(context_),
            (Codes{"gpt.disk-size@" + std::to_string(larger.size() - sector())}));
}

}  // namespace
}  // namespace lantern
