// Volumes of which only what is inside is left: what finders meet, the volume it tells of, and that
// opened.
#include <gtest/gtest.h>

#include "filesystem/exfat/entry_set.h"
#include "kit/bytes.h"
#include "kit/exfat_builder.h"
#include "kit/ext_builder.h"
#include "lantern/file_system.h"
#include "lantern/sources.h"
#include "recover/sweep/finders/ext_finder.h"
#include "recover/sweep/headless/headless_exfat.h"
#include "recover/sweep/headless/headless_ext.h"

namespace lantern {
namespace {

using kit::Bytes;

constexpr std::uint64_t kMiB = 1u << 20;

template <typename Found>
void look_at(const SourcePtr& disk, Found& finder) {
  Finder* const finders[] = {&finder};
  sweep(*disk, {0, disk->size()}, finders, Context());
}

std::shared_ptr<const FileSystem> open(const SourcePtr& disk, const HeadlessVolume& volume) {
  return open_file_system(make_window(disk, {volume.start, disk->size() - volume.start}),
                          volume.opened_by, Context());
}

// Whether these figures open it; if so, all of it is walked over.
bool opens(const SourcePtr& volume, const FileSystemOptions& options) {
  const auto files = open_file_system(volume, options, Context());
  if (!files) return false;
  WalkOptions all;
  all.deleted = true;
  files->walk(all, [](const Entry&) { return WalkStep::go_on; });
  files->used_bytes();
  return true;
}

Bytes content_of(const FileSystem& files, const std::vector<std::string>& path) {
  const auto found = files.find(path);
  return found.empty() ? Bytes() : kit::read_all(*files.open(found.front()).bytes);
}

Bytes at_1_mib(const Bytes& volume) {
  Bytes disk(kMiB);
  disk.insert(disk.end(), volume.begin(), volume.end());
  return disk;
}

// --- ext ---

// A root folder and two more, each with a file.
kit::ExtBuilder lived_in() {
  kit::ExtBuilder volume;
  volume.folder(2, 2, kit::ExtBuilder::kRootBlock, {{"counts", 12}, {"photos", 14}});
  volume.folder(12, 2, 40, {{"ledge.csv", 13}});
  volume.file(13, 50, kit::pattern(2500, 1));
  volume.folder(14, 2, 45, {{"gannet.jpg", 15}});
  volume.file(15, 60, kit::pattern(3000, 2));
  return volume;
}

std::vector<HeadlessVolume> ext_volumes(const SourcePtr& disk) {
  ExtFinder finder;
  look_at(disk, finder);
  return headless_ext(disk, {finder.heads(), finder.inodes(), finder.journals(), {}}, {0, kMiB},
                      Context());
}

TEST(HeadlessExt, FoldersAndInodesTellAll) {
  kit::ExtBuilder volume = lived_in();
  // Superblock, descriptors, bitmaps.
  std::fill_n(volume.bytes().begin(), kit::ExtBuilder::kInodeTable * kit::ExtBuilder::kBlock,
              std::byte{0});
  const SourcePtr disk = make_memory_source(at_1_mib(volume.bytes()));
  const auto found = ext_volumes(disk);
  ASSERT_EQ(found.size(), 1u);
  EXPECT_EQ(found[0].start, kMiB);
  EXPECT_EQ(found[0].opened_by.geometry.at("block"), kit::ExtBuilder::kBlock);
  EXPECT_EQ(found[0].opened_by.geometry.at("inode"), kit::ExtBuilder::kInode);
  const auto files = open(disk, found[0]);
  ASSERT_TRUE(files);
  EXPECT_EQ(content_of(*files, {"counts", "ledge.csv"}), kit::pattern(2500, 1));
  EXPECT_EQ(content_of(*files, {"photos", "gannet.jpg"}), kit::pattern(3000, 2));
}

TEST(HeadlessExt, AFolderWithoutItsInodeStillNamesWhatIsInIt) {
  kit::ExtBuilder volume = lived_in();
  std::fill_n(volume.bytes().begin(), kit::ExtBuilder::kInodeTable * kit::ExtBuilder::kBlock,
              std::byte{0});
  // The block of the table that has the root's inode.
  std::fill_n(volume.bytes().begin() + static_cast<long>(volume.inode_at(1)),
              4 * kit::ExtBuilder::kInode, std::byte{0});
  const SourcePtr disk = make_memory_source(at_1_mib(volume.bytes()));
  const auto found = ext_volumes(disk);
  ASSERT_EQ(found.size(), 1u);
  const auto files = open(disk, found[0]);
  ASSERT_TRUE(files);
  EXPECT_EQ(content_of(*files, {"counts", "ledge.csv"}), kit::pattern(2500, 1));
}

TEST(HeadlessExt, FewThatAgreeByChanceAreNoVolume) {
  Bytes disk = kit::pattern(256u << 10, 9);
  // Folders without any inode.
  for (std::uint32_t i = 0; i < 5; ++i) {
    const std::size_t at = 4096 + i * 1024;
    kit::put(disk, at, 20 + i, 4);
    kit::put(disk, at + 4, 12, 2);
    kit::put(disk, at + 6, 0x0201, 2);
    kit::put(disk, at + 8, '.', 4);
    kit::put(disk, at + 12, 2, 4);
    kit::put(disk, at + 16, 1012, 2);
    kit::put(disk, at + 18, 0x0202, 2);
    kit::put(disk, at + 20, 0x2E2E, 4);
  }
  ExtFinder finder;
  look_at(make_memory_source(disk), finder);
  EXPECT_EQ(finder.heads().size(), 5u);
  EXPECT_TRUE(ext_volumes(make_memory_source(disk)).empty());
}

TEST(ExtByHand, FiguresThatCannotBeAreRefusedOrHarmless) {
  const kit::ExtBuilder volume = lived_in();
  const SourcePtr bytes = make_memory_source(kit::ExtBuilder(volume).bytes());
  std::uint64_t opened = 0;
  for (const char* const key : {"block", "inode", "table", "table_bytes", "superblock"})
    for (const std::uint64_t value :
         {std::uint64_t{0}, std::uint64_t{1}, std::uint64_t{127}, std::uint64_t{1024},
          std::uint64_t{4096}, std::uint64_t{1} << 40, std::uint64_t{1} << 62, ~std::uint64_t{0}}) {
      FileSystemOptions options;
      options.as = "ext";
      options.geometry = {
          {"block", 1024}, {"inode", 256}, {"table", 5 * 1024}, {"table_bytes", 4096}};
      options.geometry[key] = value;
      options.table_pieces = {
          {value, 5 * 1024, value}, {1, value, 4096}, {(1ull << 40) + value, value, value}};
      opened += opens(bytes, options);
    }
  EXPECT_GT(opened, 10u);
}

TEST(ExtByHand, ATableAndTwoFiguresOpenIt) {
  kit::ExtBuilder volume = lived_in();
  std::fill_n(volume.bytes().begin(), 4096, std::byte{0});
  FileSystemOptions options;
  options.as = "ext";
  options.geometry = {{"block", 1024}, {"inode", 256}, {"table", 5 * 1024}, {"table_bytes", 16384}};
  const auto files = open_file_system(make_memory_source(volume.bytes()), options, Context());
  ASSERT_TRUE(files);
  EXPECT_EQ(content_of(*files, {"counts", "ledge.csv"}), kit::pattern(2500, 1));
}

// --- exFAT ---

// Four folders, a file in each.
kit::ExfatBuilder with_folders() {
  kit::ExfatBuilder volume;
  // Units that are their own capitals.
  Bytes table;
  for (unsigned unit = 0; unit < 256; ++unit) {
    table.push_back(static_cast<std::byte>(unit));
    table.push_back(std::byte{0});
  }
  volume.capitals(table, 8);
  for (std::uint32_t i = 0; i < 4; ++i) {
    volume.folder(kit::ExfatBuilder::kRoot, "ledge " + std::to_string(i), 20 + 7 * i);
    volume.file(20 + 7 * i, "count.csv", kit::pattern(700, i), {60 + 2 * i, 61 + 2 * i});
  }
  return volume;
}

std::vector<HeadlessVolume> exfat_volumes(const SourcePtr& disk) {
  ExfatFinder finder;
  look_at(disk, finder);
  return headless_exfat(
      disk, finder.heads(), finder.entries(), [](std::uint64_t) { return false; }, Context());
}

TEST(HeadlessExfat, EntriesAndFoldersTellWhereClustersAre) {
  kit::ExfatBuilder volume = with_folders();
  std::fill_n(volume.bytes().begin(), kit::ExfatBuilder::kTable, std::byte{0});
  const SourcePtr disk = make_memory_source(at_1_mib(volume.bytes()));
  const auto found = exfat_volumes(disk);
  ASSERT_EQ(found.size(), 1u);
  EXPECT_EQ(found[0].opened_by.geometry.at("cluster"), kit::ExfatBuilder::kCluster);
  EXPECT_EQ(found[0].start + found[0].opened_by.geometry.at("data"),
            kMiB + kit::ExfatBuilder::kHeap);
  const auto files = open(disk, found[0]);
  ASSERT_TRUE(files);
  EXPECT_EQ(content_of(*files, {"ledge 2", "count.csv"}), kit::pattern(700, 2));
}

TEST(HeadlessExfat, WithoutFatAndRootFoldersHaveTheirNumbers) {
  kit::ExfatBuilder volume = with_folders();
  std::fill_n(volume.bytes().begin(), kit::ExfatBuilder::kHeap, std::byte{0});
  // The root goes, and with it the entries that lead to the folders: nothing tells them any more.
  Bytes rootless = volume.bytes();
  std::fill_n(
      rootless.begin() + static_cast<long>(kit::ExfatBuilder::place(kit::ExfatBuilder::kRoot)),
      kit::ExfatBuilder::kCluster, std::byte{0});
  EXPECT_TRUE(exfat_volumes(make_memory_source(at_1_mib(rootless))).empty());
  // By hand it opens all the same.
  FileSystemOptions options;
  options.as = "exfat";
  options.geometry = {{"cluster", 512}, {"data", kit::ExfatBuilder::kHeap}};
  options.table_pieces = {{27, kit::ExfatBuilder::place(27), 512}};
  const auto files = open_file_system(make_memory_source(rootless), options, Context());
  ASSERT_TRUE(files);
  EXPECT_EQ(content_of(*files, {"00000027", "count.csv"}), kit::pattern(700, 1));
}

TEST(ExfatByHand, FiguresThatCannotBeAreRefusedOrHarmless) {
  const SourcePtr volume = make_memory_source(with_folders().bytes());
  std::uint64_t opened = 0;
  for (const char* const key :
       {"cluster", "data", "table", "table_bytes", "root_cluster", "root_bytes"})
    for (const std::uint64_t value :
         {std::uint64_t{0}, std::uint64_t{1}, std::uint64_t{4}, std::uint64_t{511},
          std::uint64_t{4096}, std::uint64_t{1} << 27, std::uint64_t{1} << 31,
          std::uint64_t{1} << 62, ~std::uint64_t{0}}) {
      FileSystemOptions options;
      options.as = "exfat";
      options.geometry = {{"cluster", 512}, {"data", kit::ExfatBuilder::kHeap}};
      options.geometry[key] = value;
      options.table_pieces = {{value, value, value}, {20, 1, ~std::uint64_t{0}}};
      opened += opens(volume, options);
    }
  EXPECT_GT(opened, 20u);
}

TEST(ExfatSets, AFolderGoesOnWhereASetIsWholeWithTheNextCluster) {
  kit::ExfatBuilder volume;
  // The sixth set lies on the border of two clusters.
  for (int i = 0; i < 8; ++i) volume.file(20, "count " + std::to_string(i), {}, {});
  const auto cluster = [&](std::uint32_t number) {
    const auto at = static_cast<long>(kit::ExfatBuilder::place(number));
    return Bytes(volume.bytes().begin() + at,
                 volume.bytes().begin() + at + static_cast<long>(kit::ExfatBuilder::kCluster));
  };
  EXPECT_TRUE(exfat::goes_on(cluster(20), cluster(21)));
  Bytes damaged = cluster(21);
  damaged[5] ^= std::byte{1};
  EXPECT_FALSE(exfat::goes_on(cluster(20), damaged));
  EXPECT_FALSE(exfat::goes_on(cluster(20), cluster(20)));
  EXPECT_FALSE(exfat::goes_on(cluster(21), cluster(22))) << "the folder ends in it";
}

}  // namespace
}  // namespace lantern
