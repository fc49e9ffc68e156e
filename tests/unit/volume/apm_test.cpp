#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "kit/disk_builder.h"
#include "lantern/nest/session.h"
#include "lantern/repair.h"
#include "lantern/volume_table.h"

namespace lantern {
namespace {

using namespace repair;

using kit::Bytes;

constexpr std::size_t kMiB = 1 << 20;

void put_be32(Bytes& bytes, std::size_t at, std::uint32_t value) {
  for (std::size_t i = 0; i < 4; ++i) bytes[at + i] = static_cast<std::byte>(value >> (24 - 8 * i));
}

void put_text(Bytes& bytes, std::size_t at, std::string_view text) {
  for (std::size_t i = 0; i < text.size(); ++i) bytes[at + i] = static_cast<std::byte>(text[i]);
}

struct MapEntry {
  std::uint32_t first = 0, blocks = 0;
  std::string_view name, type;
};

// A disk with a map whose blocks are `block` bytes; entries lie `step` apart.
Bytes disk_with(const std::vector<MapEntry>& entries, std::size_t block = 512,
                std::size_t step = 512) {
  Bytes disk(8 * kMiB);
  put_text(disk, 0, "ER");
  disk[2] = static_cast<std::byte>(block >> 8);
  put_be32(disk, 4, static_cast<std::uint32_t>(disk.size() / block));
  for (std::size_t i = 0; i < entries.size(); ++i) {
    const std::size_t at = (i + 1) * step;
    put_text(disk, at, "PM");
    put_be32(disk, at + 4,
             static_cast<std::uint32_t>(entries[i].name == "endless" ? ~0u : entries.size()));
    put_be32(disk, at + 8, entries[i].first);
    put_be32(disk, at + 12, entries[i].blocks);
    put_text(disk, at + 16, entries[i].name);
    put_text(disk, at + 48, entries[i].type);
  }
  return disk;
}

const std::vector<MapEntry> kUsual = {{1, 63, "Apple", "Apple_partition_map"},
                                      {64, 64, "driver", "Apple_Driver43"},
                                      {2048, 4096, "Lamp", "Apple_HFS"},
                                      {6144, 100, "", "Apple_Free"}};

VolumeTable read(const Bytes& disk, const Context& context) {
  return read_volume_table(make_memory_source(disk), std::nullopt, known_formats(), context);
}

TEST(Apm, VolumesKeepTheirNumbersAndNames) {
  const Context context;
  const VolumeTable table = read(disk_with(kUsual), context);
  EXPECT_EQ(table.scheme, "apm");
  EXPECT_EQ(table.sector_size, 512u);
  ASSERT_EQ(table.rows.size(), 2u);
  EXPECT_TRUE(table.rows[0].system);
  EXPECT_EQ(table.rows[1].number, 3u);
  EXPECT_EQ(table.rows[1].name, "Lamp");
  EXPECT_EQ(table.rows[1].type, "Apple_HFS");
  EXPECT_EQ(table.rows[1].range, (Range{2048 * 512, 4096 * 512}));
  EXPECT_TRUE(kit::codes(context).empty());
}

TEST(Apm, BlocksOf2048WithEntriesEitherWay) {
  for (const std::size_t step : {std::size_t{512}, std::size_t{2048}}) {
    const Context context;
    const VolumeTable table = read(disk_with(kUsual, 2048, step), context);
    ASSERT_EQ(table.rows.size(), 2u) << step;
    EXPECT_EQ(table.rows[1].range.offset, 2048 * step);
  }
}

TEST(Apm, DamageIsAFindingAndTheRestIsRead) {
  Bytes disk = disk_with(kUsual);
  std::fill_n(disk.begin(), 512, std::byte{0});         // the driver record
  std::fill_n(disk.begin() + 1024, 512, std::byte{0});  // the second entry
  Context context;
  const VolumeTable table = read(disk, context);
  ASSERT_EQ(table.rows.size(), 1u);
  EXPECT_EQ(table.rows[0].number, 3u);
  EXPECT_EQ(kit::codes(context),
            (std::vector<std::string>{"apm.driver-record@0", "apm.entry@1024"}));

  context = Context();
  read(disk_with({{1, 63, "Apple", "Apple_partition_map"},
                  {2048, 4096, "Lamp", "Apple_HFS"},
                  {4096, 0xFFFFFFFF, "Log", "Apple_HFS"}}),
       context);
  EXPECT_EQ(kit::codes(context),
            (std::vector<std::string>{"apm.past-end@2097152", "apm.overlap@2097152"}));
}

TEST(Apm, AMapThatClaimsEndlessEntriesEnds) {
  const Context context;
  read(disk_with({{1, 63, "endless", "Apple_partition_map"}}), context);
  EXPECT_LE(kit::codes(context).size(), FindingSink::kMaxOfGroup + 1);
}

TEST(Apm, WithoutEntriesItIsNone) {
  const Context context;
  Bytes disk = disk_with({});
  EXPECT_FALSE(read(disk, context).is_there());
  EXPECT_FALSE(read(Bytes(100), context).is_there());
}

// It is read, and no repair is offered that would lay another table over it.
TEST(Apm, IsLeftAloneByRepair) {
  const kit::Folder folder;
  for (const bool record_lost : {false, true}) {
    Bytes disk = disk_with(kUsual);
    if (record_lost) std::fill_n(disk.begin(), 512, std::byte{0});
    const RepairPlan plan =
        plan_repair({folder.file("mac.img", disk), {}}, {}, Session({}, Context()));
    EXPECT_TRUE(plan.steps.empty());
    ASSERT_FALSE(plan.notes.empty());
    EXPECT_NE(plan.notes.front().text().find("partition table (APM), which is not repaired here"),
              std::string::npos);
  }
}

}  // namespace
}  // namespace lantern
