// What partition tables and file systems tell of where a loose piece of a disk belongs.
#include <gtest/gtest.h>

#include <algorithm>
#include <array>

#include "base/crc32c.h"
#include "base/store.h"
#include "container/expectations.h"
#include "filesystem/exfat/places.h"
#include "filesystem/ext/places.h"
#include "filesystem/fat/places.h"
#include "filesystem/ntfs/places.h"
#include "kit/disk_builder.h"
#include "kit/ext_builder.h"
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

// An ext volume whose journal begins in block 100: a transaction of six blocks, and the head of
// the next one.
kit::Bytes volume_with_journal() {
  constexpr std::uint32_t kMark = 0xC03B3998;
  constexpr std::size_t kBlock = kit::ExtBuilder::kBlock;
  const auto begin = [](kit::Bytes& log, std::size_t index, std::uint32_t kind,
                        std::uint32_t sequence) {
    store_be32(log, index * kBlock, kMark);
    store_be32(log, index * kBlock + 4, kind);
    store_be32(log, index * kBlock + 8, sequence);
  };
  kit::Bytes log = kit::pattern(12 * kBlock, 7);
  std::fill_n(log.begin(), 2 * kBlock, std::byte{0});
  begin(log, 0, 4, 0);
  store_be32(log, 0x0C, kBlock);
  store_be32(log, 0x10, 12);    // blocks
  store_be32(log, 0x14, 1);     // the first of the log
  store_be32(log, 0x28, 0x12);  // wide numbers, checksums
  begin(log, 1, 1, 5);
  for (std::uint32_t i = 0; i < 6; ++i) {
    const std::size_t tag = kBlock + 12 + std::size_t{i} * 16;
    std::array<std::byte, 4> sequence{};
    store_be32(sequence, 0, 5);
    const std::uint32_t seed = crc32c_chain(crc32c_chain(~0u, kit::Bytes(16)), sequence);
    store_be32(log, tag, 200 + i);
    store_be32(log, tag + 4, i == 5 ? 2 | 8 : 2);  // no UUID; the last
    store_be32(log, tag + 12, crc32c_chain(seed, std::span(log).subspan((2 + i) * kBlock, kBlock)));
  }
  begin(log, 8, 2, 5);
  begin(log, 9, 1, 6);
  kit::ExtBuilder ext(0x40, 4);
  ext.file(8, 100, log);
  kit::put(ext.bytes(), 1024 + 0xE0, 8, 4);  // the inode of the journal
  return ext.bytes();
}

TEST(Evidence, ExtKnowsTheBlocksThatItsJournalHasChecksumsOf) {
  const kit::Bytes disk = volume_with_journal();
  constexpr std::uint64_t kSmall = 4096, kOfData = 104 / 4, kOfHead = 108 / 4;
  const SourcePtr whole = make_memory_source(disk);
  LoosePieces loose;
  loose.piece_bytes = kSmall;
  loose.bytes = {make_window(whole, {kOfHead * kSmall, kSmall}),
                 make_window(whole, {kOfData * kSmall, kSmall}),
                 make_memory_source(kit::pattern(kSmall, 9))};
  loose.placed.resize(loose.bytes.size());
  const std::uint64_t from = kOfData * kSmall, to = (kOfHead + 1) * kSmall;
  const SourcePtr known = make_joined({{ExtentKind::direct, from, whole, 0},
                                       {ExtentKind::unreadable, to - from, nullptr, 0},
                                       {ExtentKind::direct, disk.size() - to, whole, to}});
  const Context context;
  Expectations expected(loose, known, context);
  const auto finder = ext::places(loose, context);
  EXPECT_TRUE(finder->claims(known, expected).empty());
  EXPECT_GT(expected.weigh(1, from), 100) << "four checksums";
  EXPECT_LT(expected.weigh(2, from), 0);
  EXPECT_GT(expected.weigh(0, kOfHead * kSmall), 20) << "the end of the transaction";
  EXPECT_EQ(expected.claims().size(), 2U);
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
