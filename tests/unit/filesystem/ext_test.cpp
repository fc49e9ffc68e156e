// Volumes laid by hand, sound and hostile. What real systems write is judged by truth/ext_truth.py.
#include <gtest/gtest.h>

#include <algorithm>

#include "base/crc32c.h"
#include "filesystem/ext/superblock.h"
#include "kit/ext_builder.h"
#include "lantern/error.h"
#include "lantern/file_system.h"

namespace lantern {
namespace {

using kit::Bytes;
using kit::ExtBuilder;
using Codes = std::vector<std::string>;
constexpr std::size_t kBlock = ExtBuilder::kBlock;

std::shared_ptr<const FileSystem> open(ExtBuilder& volume, const Context& context) {
  return open_file_system(make_memory_source(volume.bytes()), {}, context);
}

Codes listing(const FileSystem& files, bool deleted = false) {
  Codes lines;
  WalkOptions options;
  options.deleted = deleted;
  files.walk(options, [&](const Entry& entry) {
    std::string line(to_string(entry.state));
    for (const std::string& name : entry.path) line += "/" + name;
    lines.push_back(line);
    return WalkStep::go_on;
  });
  return lines;
}

Codes codes(const Context& context) {
  Codes found;
  for (const Finding& finding : context.findings->all())
    found.emplace_back(to_string(finding.code));
  return found;
}

bool has(const Codes& codes, const std::string& code) {
  return std::find(codes.begin(), codes.end(), code) != codes.end();
}

Bytes content(const FileSystem& files, const std::vector<std::string>& path,
              std::vector<Range>* lost = nullptr) {
  const auto found = files.find(path);
  EXPECT_EQ(found.size(), 1u);
  return kit::read_all(*files.open(found.at(0)).bytes, lost);
}

ExtBuilder station() {
  ExtBuilder volume;
  volume.file(12, 40, kit::pattern(2500, 1));
  volume.file(13, 50, kit::bytes_of("two eggs"));
  volume.folder(11, 2, 31, {{"log.txt", 13}});
  volume.folder(2, 2, ExtBuilder::kRootBlock, {{"Keeper", 11}, {"tide.bin", 12}});
  return volume;
}

TEST(Ext, ListsAndReadsWhatIsThere) {
  ExtBuilder volume = station();
  const Context context;
  const auto files = open(volume, context);
  ASSERT_TRUE(files);
  EXPECT_EQ(files->facts().type, "ext4");
  EXPECT_EQ(files->facts().label, "skerrow");
  EXPECT_EQ(listing(*files), (Codes{"active/Keeper", "active/Keeper/log.txt", "active/tide.bin"}));
  EXPECT_EQ(content(*files, {"tide.bin"}), kit::pattern(2500, 1));
  EXPECT_EQ(content(*files, {"Keeper", "log.txt"}), kit::bytes_of("two eggs"));
  EXPECT_EQ(codes(context), Codes{});
}

TEST(Ext, NamesAreFoundAsStoredOrInAnyCase) {
  ExtBuilder volume = station();
  const auto files = open(volume, Context());
  EXPECT_TRUE(files->find({"keeper", "LOG.TXT"}).empty());
  ASSERT_EQ(files->find({"keeper", "LOG.TXT"}, NameRule::any_case).size(), 1u);
  const Entry entry = files->find({"Keeper", "log.txt"}).at(0);
  EXPECT_EQ(files->entry(entry.id)->path, entry.path);
  EXPECT_FALSE(files->entry("13-999"));
  EXPECT_THROW(files->open(files->find({"Keeper"}).at(0)), Error);
  EXPECT_THROW(files->open(entry, "notes"), Error);
}

TEST(Ext, SaysWhatIsInUseAndWhose) {
  ExtBuilder volume = station();
  const auto files = open(volume, Context());
  std::vector<std::pair<Range, bool>> runs;
  files->allocation({39 * kBlock, 6 * kBlock}, [&](Range range, bool used) {
    runs.emplace_back(range, used);
    return true;
  });
  EXPECT_EQ(runs, (std::vector<std::pair<Range, bool>>{{{39 * kBlock, kBlock}, false},
                                                       {{40 * kBlock, 3 * kBlock}, true},
                                                       {{43 * kBlock, 2 * kBlock}, false}}));
  const auto owners = files->who_owns({41 * kBlock, 10});
  ASSERT_EQ(owners.size(), 1u);
  EXPECT_EQ(owners[0].entry.path.back(), "tide.bin");
  EXPECT_EQ(owners[0].within, (Range{kBlock, 10}));
}

TEST(Ext, HolesAndTakenRoomAreZero) {
  ExtBuilder volume = station();
  volume.record(12, 0x81A4, 10 * kBlock, 0x80000,
                ExtBuilder::extents({{2, 40, 1}, {5, 41, 32768 + 2}}), 112);
  const auto files = open(volume, Context());
  const Entry entry = files->find({"tide.bin"}).at(0);
  const Bytes bytes = kit::read_all(*files->open(entry).bytes);
  ASSERT_EQ(bytes.size(), 10 * kBlock);
  EXPECT_TRUE(std::equal(bytes.begin() + 2 * kBlock, bytes.begin() + 3 * kBlock,
                         volume.bytes().begin() + 40 * kBlock));
  EXPECT_TRUE(std::all_of(bytes.begin() + 3 * kBlock, bytes.end(),
                          [](std::byte b) { return b == std::byte{0}; }));
}

TEST(Ext, ExtentsOfAnyDepthEnd) {
  for (const int depth : {1, 5, 6, 65535}) {
    ExtBuilder volume = station();
    Bytes map = ExtBuilder::extents({{0, 60, 0}});
    kit::put(map, 6, static_cast<std::uint64_t>(depth), 2);
    kit::put(map, 12 + 4, 60, 4);  // an index: the node lies in block 60
    kit::put(map, 12 + 8, 0, 4);
    volume.record(12, 0x81A4, 2500, 0x80000, map, 112);
    // That node leads to itself.
    kit::put_bytes(volume.bytes(), 60 * kBlock, map);
    const Context context;
    const auto files = open(volume, context);
    std::vector<Range> lost;
    content(*files, {"tide.bin"}, &lost);
    EXPECT_EQ(lost, (std::vector<Range>{{0, 2500}})) << depth;
    EXPECT_TRUE(has(codes(context), "ext.block-map")) << depth;
  }
}

TEST(Ext, ExtentsOutsideTheVolumeAreLost) {
  ExtBuilder volume = station();
  volume.record(12, 0x81A4, 3 * kBlock, 0x80000,
                ExtBuilder::extents({{0, 40, 1}, {1, 4'000'000, 2}}), 112);
  const Context context;
  const auto files = open(volume, context);
  std::vector<Range> lost;
  const Bytes bytes = content(*files, {"tide.bin"}, &lost);
  EXPECT_EQ(lost, (std::vector<Range>{{kBlock, 2 * kBlock}}));
  EXPECT_TRUE(
      std::equal(bytes.begin(), bytes.begin() + kBlock, volume.bytes().begin() + 40 * kBlock));
}

TEST(Ext, EntriesOfNoLengthAreSteppedOver) {
  ExtBuilder volume = station();
  // "Keeper" says it has no length: what stands behind it is found again.
  kit::put(volume.bytes(), ExtBuilder::kRootBlock * kBlock + 24 + 4, 0, 2);
  const Context context;
  const auto files = open(volume, context);
  EXPECT_EQ(listing(*files), Codes{"active/tide.bin"});
  EXPECT_TRUE(has(codes(context), "ext.folder"));
}

TEST(Ext, AFolderInItselfIsEnteredOnce) {
  ExtBuilder volume = station();
  volume.folder(11, 2, 31, {{"log.txt", 13}, {"again", 11}, {"root", 2}});
  const Context context;
  const auto files = open(volume, context);
  EXPECT_EQ(listing(*files).size(), 5u);
  EXPECT_TRUE(has(codes(context), "ext.folder-loop"));
}

TEST(Ext, InodesThereAreNoneOfAreListedByName) {
  ExtBuilder volume = station();
  kit::put(volume.bytes(), 2 * kBlock + 8, 500'000, 4);  // the inode table lies nowhere
  const Context context;
  const auto files = open(volume, context);
  ASSERT_TRUE(files);
  EXPECT_EQ(listing(*files), Codes{});
  EXPECT_TRUE(has(codes(context), "ext.groups"));
}

TEST(Ext, ALinkOfFourGiBIsNoReasonToFail) {
  ExtBuilder volume = station();
  volume.record(12, 0xA1FF, 4ull << 30, 0x80000, ExtBuilder::extents({{0, 40, 1}}), 112);
  const auto files = open(volume, Context());
  const Entry entry = files->find({"tide.bin"}).at(0);
  EXPECT_EQ(entry.kind, EntryKind::symlink);
  EXPECT_EQ(files->open(entry).bytes->size(), 4ull << 30);
}

TEST(Ext, EncryptedFilesAreNamedAndNotOpened) {
  ExtBuilder volume = station();
  kit::put(volume.bytes(), volume.inode_at(12) + 0x20, 0x80800, 4);
  const auto files = open(volume, Context());
  const Entry entry = files->find({"tide.bin"}).at(0);
  EXPECT_EQ(entry.attributes, "e");
  EXPECT_THROW(files->open(entry), Error);
}

TEST(Ext, AnInodeWithoutANameIsAnOrphan) {
  ExtBuilder volume = station();
  volume.file(20, 70, kit::pattern(900, 5));
  const auto files = open(volume, Context());
  EXPECT_EQ(listing(*files, true), (Codes{"active/Keeper", "active/Keeper/log.txt",
                                          "active/tide.bin", "orphan/inode-20"}));
  const auto found = files->find({"inode-20"});
  ASSERT_EQ(found.size(), 1u);
  EXPECT_EQ(kit::read_all(*files->open(found[0]).bytes), kit::pattern(900, 5));
}

TEST(Ext, AFolderWithoutANameIsListedWithWhatItHolds) {
  ExtBuilder volume = station();
  volume.folder(2, 2, ExtBuilder::kRootBlock, {{"tide.bin", 12}});
  const auto files = open(volume, Context());
  EXPECT_EQ(listing(*files, true),
            (Codes{"active/tide.bin", "orphan/inode-11", "orphan/inode-11/log.txt"}));
}

TEST(Ext, AFileWithoutANameIsNamedByItsContent) {
  ExtBuilder volume = station();
  volume.file(20, 70, kit::bytes_of("%PDF-1.4 count of the season"));
  const auto files = open(volume, Context());
  EXPECT_EQ(listing(*files, true).back(), "orphan/inode-20.pdf");
}

TEST(Ext, AFileStillOpenWhenItWasDeletedIsWhole) {
  ExtBuilder volume = station();
  volume.folder(2, 2, ExtBuilder::kRootBlock, {{"Keeper", 11}});
  kit::put(volume.bytes(), volume.inode_at(12) + 0x1A, 0, 2);
  const auto files = open(volume, Context());
  WalkOptions deleted;
  deleted.active = false;
  deleted.deleted = true;
  std::vector<Entry> found;
  files->walk(deleted, [&](const Entry& entry) {
    found.push_back(entry);
    return WalkStep::go_on;
  });
  ASSERT_EQ(found.size(), 1u);
  EXPECT_EQ(found[0].intact, 1);
  EXPECT_EQ(kit::read_all(*files->open(found[0]).bytes), kit::pattern(2500, 1));
}

TEST(Ext, BlocksOfADeletedFileThatAreOthersNowAreLost) {
  ExtBuilder volume = station();
  volume.folder(2, 2, ExtBuilder::kRootBlock, {{"Keeper", 11}});
  // As an old system deleted it: no links, not in use, its map left; one of its blocks is taken.
  kit::put(volume.bytes(), volume.inode_at(12) + 0x1A, 0, 2);
  volume.use_inode(12, false);
  for (const std::uint32_t block : {40u, 42u}) volume.use_block(block, false);
  const auto files = open(volume, Context());
  const auto found = files->find({"inode-12"});
  ASSERT_EQ(found.size(), 1u);
  EXPECT_EQ(found[0].state, EntryState::deleted);
  EXPECT_EQ(files->open(found[0]).lost, (std::vector<Range>{{kBlock, kBlock}}));
  EXPECT_LT(*found[0].intact, 0.6);
}

TEST(Ext, ACutVolumeGivesWhatIsThere) {
  ExtBuilder volume = station();
  volume.bytes().resize(42 * kBlock);
  const Context context;
  const auto files = open(volume, context);
  ASSERT_TRUE(files);
  const Entry entry = files->find({"tide.bin"}).at(0);
  EXPECT_NEAR(*entry.intact, 2048.0 / 2500, 1e-9);
  EXPECT_TRUE(has(codes(context), "ext.volume-size"));
}

TEST(Ext, WhatIsNoneIsNone) {
  const Context context;
  EXPECT_FALSE(open_file_system(make_memory_source(Bytes(64'000)), {}, context));
  EXPECT_FALSE(open_file_system(make_memory_source(kit::pattern(64'000, 4)), {}, context));
  EXPECT_FALSE(open_file_system(make_memory_source(Bytes(100)), {}, context));
}

TEST(Ext, TheSumOfTheSuperblockTellsItsOneWrongByte) {
  ExtBuilder ext;
  Bytes whole = ext.bytes();
  constexpr std::size_t kSuper = 1024;
  kit::put(whole, kSuper + 0x64, 0x400, 4);
  const auto summed = std::span(whole).subspan(kSuper, ext::kSuperblockSumAt);
  kit::put(whole, kSuper + ext::kSuperblockSumAt, crc32c_chain(~0u, summed), 4);
  for (std::size_t at = 0; at < ext::kSuperblockBytes; at += 5) {
    Bytes damaged = whole;
    damaged[kSuper + at] ^= std::byte{0x5A};
    const auto found = ext::find_superblocks(*make_memory_source(damaged));
    ASSERT_EQ(found.size(), 1u) << at;
    ASSERT_TRUE(found[0].mended.has_value()) << at;
    EXPECT_EQ(found[0].mended->at, at);
    EXPECT_EQ(found[0].mended->right, whole[kSuper + at]) << at;
    EXPECT_EQ(found[0].block_count, ExtBuilder::kBlocks) << at;
  }
  EXPECT_FALSE(ext::find_superblocks(*make_memory_source(whole))[0].mended.has_value());
}

}  // namespace
}  // namespace lantern
