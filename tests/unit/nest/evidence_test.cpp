// What partition tables and FAT tell of where a loose piece of a disk belongs.
#include <gtest/gtest.h>

#include <algorithm>

#include "filesystem/fat/places.h"
#include "kit/disk_builder.h"
#include "kit/fat_builder.h"
#include "volume/table_places.h"

namespace lantern {
namespace {

constexpr std::uint64_t kPiece = 64u << 10;

// A GPT disk with a FAT16 volume at 1 MiB; every piece but those of `known` is loose.
kit::Bytes station_disk() {
  kit::FatBuilder fat(kit::FatBuilder::Width::fat16, 5000, 2048);
  fat.folder(0, "log", {900});
  fat.link(900, 0xFFFF);
  kit::FatBuilder::Clusters chain(1500);
  for (std::uint32_t i = 0; i < chain.size(); ++i) chain[i] = 1000 + i;
  fat.file(0, "tides.csv", kit::pattern(chain.size() * 2048, 4), chain);
  for (std::uint32_t i = 0; i + 1 < chain.size(); ++i) fat.link(chain[i], chain[i + 1]);
  kit::Bytes disk(1u << 20);
  kit::put_bytes(disk, disk.size(), fat.bytes());
  kit::put(disk, (1u << 20) + 28, 2048, 4);  // sectors before the volume
  disk.resize((disk.size() + kPiece - 1) / kPiece * kPiece + kPiece);
  kit::put_gpt(disk, 512, {{2048, disk.size() / 512 - 100, "station"}});
  return disk;
}

std::vector<SourcePtr> pieces_of(const kit::Bytes& disk) {
  std::vector<SourcePtr> pieces;
  const SourcePtr whole = make_memory_source(disk);
  for (std::uint64_t at = 0; at < disk.size(); at += kPiece)
    pieces.push_back(make_window(whole, {at, kPiece}));
  return pieces;
}

TEST(Evidence, TablesKnowTheFirstAndTheLastPiece) {
  const kit::Bytes disk = station_disk();
  const auto pieces = pieces_of(disk);
  const auto claims = table_places(make_memory_source(kit::Bytes(disk.size())), pieces, Context());
  ASSERT_GE(claims.size(), 2U);
  std::vector<std::size_t> placed;
  for (const PlaceClaim& claim : claims) {
    EXPECT_EQ(claim.disk_offset, claim.piece * kPiece) << claim.why;
    placed.push_back(claim.piece);
  }
  EXPECT_NE(std::find(placed.begin(), placed.end(), 0U), placed.end());
  EXPECT_NE(std::find(placed.begin(), placed.end(), pieces.size() - 1), placed.end());
}

TEST(Evidence, AGptTellsTheSizeOfItsDisk) {
  const kit::Bytes disk = station_disk();
  EXPECT_EQ(disk_bytes_inside(make_memory_source(disk)), disk.size());
  EXPECT_EQ(disk_bytes_inside(make_memory_source(kit::pattern(8192, 1))), 0U);
}

TEST(Evidence, FatKnowsItsBootSectorFoldersAndTables) {
  const kit::Bytes disk = station_disk();
  const auto claims = fat::places(make_memory_source(disk), pieces_of(disk), Context());
  bool boot = false;
  bool folder = false;
  bool table = false;
  for (const PlaceClaim& claim : claims) {
    EXPECT_EQ(claim.disk_offset, claim.piece * kPiece) << claim.why;
    boot = boot || claim.why.find("boot sector") != std::string::npos;
    folder = folder || claim.why.find("folder") != std::string::npos;
    table = table || claim.why.find("table") != std::string::npos;
  }
  EXPECT_TRUE(boot);
  EXPECT_TRUE(folder);
  EXPECT_TRUE(table);
}

TEST(Evidence, NothingIsKnownOfNoise) {
  const kit::Bytes noise = kit::pattern(4 * kPiece, 5);
  const SourcePtr known = make_memory_source(noise);
  EXPECT_TRUE(table_places(known, pieces_of(noise), Context()).empty());
  EXPECT_TRUE(fat::places(known, pieces_of(noise), Context()).empty());
}

}  // namespace
}  // namespace lantern
