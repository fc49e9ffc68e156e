#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "kit/disk_builder.h"
#include "lantern/nest/session.h"
#include "lantern/volume_table.h"

namespace lantern {
namespace {

using kit::Bytes;

struct LabelEntry {
  std::uint32_t sectors, first;
  std::uint8_t kind;
};

// A label at byte `at`, places from `base` on.
void put_label(Bytes& disk, std::size_t at, const std::vector<LabelEntry>& entries, bool big) {
  const auto put = [&](std::size_t place, std::uint64_t value, std::size_t width) {
    for (std::size_t i = 0; i < width; ++i)
      disk[at + place + (big ? width - 1 - i : i)] = static_cast<std::byte>(value >> 8 * i);
  };
  put(0, 0x82564557, 4);
  put(40, 512, 4);
  put(132, 0x82564557, 4);
  put(138, entries.size(), 2);
  for (std::size_t i = 0; i < entries.size(); ++i) {
    put(148 + 16 * i, entries[i].sectors, 4);
    put(148 + 16 * i + 4, entries[i].first, 4);
    put(148 + 16 * i + 12, entries[i].kind, 1);
  }
  std::uint16_t sum = 0;
  for (std::size_t i = 0; i < 148 + 16 * entries.size(); i += 2) {
    const auto low = std::to_integer<unsigned>(disk[at + i + (big ? 1 : 0)]);
    const auto high = std::to_integer<unsigned>(disk[at + i + (big ? 0 : 1)]);
    sum = static_cast<std::uint16_t>(sum ^ (low | high << 8));
  }
  put(136, sum, 2);
}

VolumeTable read(const Bytes& disk, const Context& context) {
  return read_volume_table(make_memory_source(disk), std::nullopt, known_formats(), context);
}

const std::vector<LabelEntry> kUsual = {
    {2048, 16, 7}, {512, 2064, 1}, {8192, 0, 0}, {4096, 2576, 7}, {0, 0, 0}};

TEST(Bsd, VolumesAreLetteredAndTheWholeIsNone) {
  for (const bool big : {false, true}) {
    Bytes disk(8192 * 512);
    put_label(disk, 512, kUsual, big);
    const Context context;
    const VolumeTable table = read(disk, context);
    EXPECT_EQ(table.scheme, "bsd");
    ASSERT_EQ(table.rows.size(), 3u);
    EXPECT_EQ(table.rows[0].number, 1u);
    EXPECT_EQ(table.rows[0].name, "a");
    EXPECT_EQ(table.rows[0].range, (Range{16 * 512, 2048 * 512}));
    EXPECT_TRUE(table.rows[1].system) << "swap";
    EXPECT_EQ(table.rows[2].number, 4u);
    EXPECT_EQ(table.rows[2].type, "4.2BSD");
    EXPECT_TRUE(kit::codes(context).empty());
  }
}

TEST(Bsd, InASliceCountsFromTheDiskWhereEntryCSaysSo) {
  // The slice begins at sector 2048 of the disk; opened by itself its places count from there.
  Bytes slice(8192 * 512);
  put_label(slice, 512, {{2048, 2064, 7}, {0, 0, 0}, {8192, 2048, 0}}, false);
  const Context context;
  const VolumeTable table = read(slice, context);
  ASSERT_EQ(table.rows.size(), 1u);
  EXPECT_EQ(table.rows[0].range.offset, 16u * 512u);
}

TEST(Bsd, IsReachedThroughTheSliceOfAnMbr) {
  Bytes disk(16384 * 512);
  kit::put(disk, 446 + 4, 0xA5, 1);
  kit::put(disk, 446 + 8, 2048, 4);
  kit::put(disk, 446 + 12, 8192, 4);
  kit::put(disk, 510, 0xAA55, 2);
  put_label(disk, (2048 + 1) * 512, {{2048, 16, 7}, {0, 0, 0}, {8192, 0, 0}}, false);
  const kit::Folder folder;
  const Session session;
  const Target target = session.open(Address::parse(folder.file("light.img", disk) + "::1::1"));
  EXPECT_EQ(target.disk().table.scheme, "bsd");
  EXPECT_EQ(target.volume_layer().row.range, (Range{16 * 512, 2048 * 512}));
}

TEST(Bsd, DamageIsSaid) {
  Bytes disk(8192 * 512);
  put_label(disk, 512, kUsual, false);
  disk[512 + 24] = std::byte{'x'};
  const Context wrong_sum;
  EXPECT_EQ(read(disk, wrong_sum).rows.size(), 3u);
  EXPECT_EQ(kit::codes(wrong_sum), std::vector<std::string>{"bsd.label@512"});
  disk = Bytes(8192 * 512);
  put_label(disk, 512, {{9000, 16, 7}}, false);
  const Context past_end;
  EXPECT_EQ(read(disk, past_end).rows.size(), 1u);
  EXPECT_EQ(kit::codes(past_end), std::vector<std::string>{"bsd.past-end@8192"});
  // Too many entries for a sector, and sectors of no size.
  disk = Bytes(8192 * 512);
  put_label(disk, 512, kUsual, false);
  kit::put(disk, 512 + 138, 4000, 2);
  EXPECT_FALSE(read(disk, Context()).is_there());
  put_label(disk, 512, kUsual, false);
  kit::put(disk, 512 + 40, 0, 4);
  EXPECT_FALSE(read(disk, Context()).is_there());
}

}  // namespace
}  // namespace lantern
