// What partition tables and file systems tell of where a loose piece of a disk belongs.
#include <gtest/gtest.h>

#include <algorithm>

#include "container/expectations.h"
#include "filesystem/exfat/places.h"
#include "filesystem/ext/places.h"
#include "filesystem/fat/places.h"
#include "filesystem/ntfs/places.h"
#include "kit/disk_builder.h"
#include "kit/fat_builder.h"
#include "nest/places/file_places.h"
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

LoosePieces pieces_of(const kit::Bytes& disk) {
  LoosePieces loose;
  loose.piece_bytes = kPiece;
  const SourcePtr whole = make_memory_source(disk);
  for (std::uint64_t at = 0; at < disk.size(); at += kPiece)
    loose.bytes.push_back(make_window(whole, {at, kPiece}));
  loose.placed.resize(loose.bytes.size());
  return loose;
}

// What a finder claims that was shown every sector.
std::vector<PlaceClaim> claims_of(const MakePlaceFinder& make, const LoosePieces& loose,
                                  const SourcePtr& known) {
  const Context context;
  const auto finder = make(loose, context);
  for (std::size_t piece = 0; piece < loose.bytes.size(); ++piece) {
    const kit::Bytes bytes = kit::read_all(*loose.bytes[piece]);
    for (std::size_t at = 0; at < bytes.size(); at += 512)
      finder->look(piece, at, std::span(bytes).subspan(at, 512));
  }
  Expectations expected(loose, known, context);
  return finder->claims(known, expected);
}

TEST(Evidence, TablesKnowTheFirstAndTheLastPiece) {
  const kit::Bytes disk = station_disk();
  const auto pieces = pieces_of(disk);
  const auto claims = claims_of(table_places, pieces, make_memory_source(kit::Bytes(disk.size())));
  ASSERT_GE(claims.size(), 2U);
  std::vector<std::size_t> placed;
  for (const PlaceClaim& claim : claims) {
    EXPECT_EQ(claim.disk_offset, claim.piece * kPiece) << claim.why;
    placed.push_back(claim.piece);
  }
  EXPECT_NE(std::find(placed.begin(), placed.end(), 0U), placed.end());
  EXPECT_NE(std::find(placed.begin(), placed.end(), pieces.bytes.size() - 1), placed.end());
}

TEST(Evidence, AGptTellsTheSizeOfItsDisk) {
  const kit::Bytes disk = station_disk();
  EXPECT_EQ(disk_bytes_inside(make_memory_source(disk)), disk.size());
  EXPECT_EQ(disk_bytes_inside(make_memory_source(kit::pattern(8192, 1))), 0U);
}

TEST(Evidence, FatKnowsItsBootSectorFoldersAndTables) {
  const kit::Bytes disk = station_disk();
  const auto claims = claims_of(fat::places, pieces_of(disk), make_memory_source(disk));
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
  const MakePlaceFinder finders[] = {table_places, fat::places,   ntfs::places,
                                     ext::places,  exfat::places, file_places};
  for (const MakePlaceFinder& make : finders)
    EXPECT_TRUE(claims_of(make, pieces_of(noise), known).empty());
}

}  // namespace
}  // namespace lantern
