// What every file system must keep. A new one joins by a line in kFileSystems.
#include <gtest/gtest.h>

#include <algorithm>
#include <atomic>
#include <functional>
#include <set>
#include <thread>

#include "kit/exfat_builder.h"
#include "kit/ext_builder.h"
#include "kit/fat_builder.h"
#include "kit/iso_builder.h"
#include "kit/ntfs_builder.h"
#include "lantern/error.h"
#include "lantern/file_system.h"

namespace lantern {
namespace {

using kit::Bytes;

// Each holds /Keeper/log.txt (1000 bytes of pattern 1), /Keeper/empty, /tide.bin (5000 of pattern
// 2), and a deleted file.
Bytes fat_volume() {
  kit::FatBuilder volume(kit::FatBuilder::Width::fat16);
  volume.folder(0, "Keeper", {10});
  volume.link(10, 0xFFFF);
  volume.file(10, "log.txt", kit::pattern(1000, 1), {20, 21});
  volume.file(10, "empty", {}, {});
  std::vector<std::uint32_t> clusters;
  for (std::uint32_t i = 30; i < 40; ++i) clusters.push_back(i);
  volume.file(0, "tide.bin", kit::pattern(5000, 2), clusters);
  const std::uint64_t gone = volume.file(0, "gone.txt", kit::pattern(700, 3), {50, 51});
  volume.remove(gone, {50, 51});
  return volume.bytes();
}

Bytes ext_volume() {
  kit::ExtBuilder volume;
  volume.file(13, 40, kit::pattern(1000, 1));
  volume.record(14, 0x81A4, 0, 0x80000, kit::ExtBuilder::extents({}), 114);
  volume.file(12, 50, kit::pattern(5000, 2));
  volume.file(15, 60, kit::pattern(700, 3));
  kit::put(volume.bytes(), volume.inode_at(15) + 0x1A, 0, 2);
  volume.use_inode(15, false);
  volume.use_block(60, false);
  volume.folder(11, 2, 31, {{"log.txt", 13}, {"empty", 14}});
  volume.folder(2, 2, kit::ExtBuilder::kRootBlock, {{"Keeper", 11}, {"tide.bin", 12}});
  return volume.bytes();
}

Bytes exfat_volume() {
  kit::ExfatBuilder volume;
  volume.folder(kit::ExfatBuilder::kRoot, "Keeper", 10);
  volume.file(10, "log.txt", kit::pattern(1000, 1), {20, 21});
  volume.file(10, "empty", {}, {});
  volume.file(kit::ExfatBuilder::kRoot, "tide.bin", kit::pattern(5000, 2),
              {30, 31, 32, 33, 34, 40, 41, 42, 43, 44});
  const std::size_t gone =
      volume.file(kit::ExfatBuilder::kRoot, "gone.txt", kit::pattern(700, 3), {50, 51});
  volume.remove(gone, {50, 51});
  return volume.bytes();
}

Bytes ntfs_volume() {
  kit::NtfsBuilder volume;
  volume.folder(30, kit::NtfsBuilder::kRoot, "Keeper");
  volume.file(31, 30, "log.txt", 120, kit::pattern(1000, 1));
  volume.small(32, 30, "empty", {});
  volume.file(33, kit::NtfsBuilder::kRoot, "tide.bin", 130, kit::pattern(5000, 2));
  volume.small(34, kit::NtfsBuilder::kRoot, "gone.txt", kit::pattern(700, 3));
  volume.remove(34);
  return volume.bytes();
}

Bytes iso_volume() {
  kit::IsoBuilder disc(true);
  disc.folder(kit::IsoBuilder::kRoot, "Keeper", 21);
  disc.file(21, "log.txt", kit::pattern(1000, 1), 30);
  disc.file(21, "empty", {}, 0);
  disc.file(kit::IsoBuilder::kRoot, "tide.bin", kit::pattern(5000, 2), 40);
  return disc.bytes();
}

struct Case {
  const char* name;
  std::function<Bytes()> make;
  std::size_t deleted = 1;  // entries of what was deleted; a disc that is written once has none
};
const Case kFileSystems[] = {{"fat16", fat_volume},
                             {"ext4", ext_volume},
                             {"exfat", exfat_volume},
                             {"ntfs", ntfs_volume},
                             {"iso9660", iso_volume, 0}};

class FileSystemContract : public ::testing::TestWithParam<Case> {
 protected:
  const Bytes volume_ = GetParam().make();
  std::shared_ptr<const FileSystem> files_ =
      open_file_system(make_memory_source(volume_), {}, Context());

  std::vector<Entry> all(const WalkOptions& options) const {
    std::vector<Entry> entries;
    files_->walk(options, [&](const Entry& entry) {
      entries.push_back(entry);
      return WalkStep::go_on;
    });
    return entries;
  }
  static WalkOptions with_deleted() {
    WalkOptions options;
    options.deleted = true;
    return options;
  }
};

INSTANTIATE_TEST_SUITE_P(All, FileSystemContract, ::testing::ValuesIn(kFileSystems),
                         [](const auto& file_system) { return file_system.param.name; });

TEST_P(FileSystemContract, GivesWhatWasPutIn) {
  ASSERT_TRUE(files_);
  EXPECT_EQ(files_->facts().type, GetParam().name);
  EXPECT_EQ(all({}).size(), 4u);
  const auto log = files_->find({"Keeper", "log.txt"});
  ASSERT_EQ(log.size(), 1u);
  EXPECT_EQ(kit::read_all(*files_->open(log[0]).bytes), kit::pattern(1000, 1));
  EXPECT_EQ(kit::read_all(*files_->open(files_->find({"tide.bin"}).at(0)).bytes),
            kit::pattern(5000, 2));
  EXPECT_EQ(files_->find({"KEEPER", "LOG.TXT"}, NameRule::any_case).size(), 1u);
  EXPECT_TRUE(files_->find({"nowhere"}).empty());
}

TEST_P(FileSystemContract, EveryEntryIsFoundAgainByItsIdAndIsAsLongAsItSays) {
  std::set<std::string> ids;
  for (const Entry& entry : all(with_deleted())) {
    EXPECT_TRUE(ids.insert(entry.id).second) << "an id names one entry";
    const auto again = files_->entry(entry.id);
    ASSERT_TRUE(again) << entry.id;
    EXPECT_EQ(again->path, entry.path);
    EXPECT_EQ(again->state, entry.state);
    ASSERT_TRUE(!entry.intact || (*entry.intact >= 0 && *entry.intact <= 1));
    if (entry.kind == EntryKind::file) {
      EXPECT_EQ(files_->open(entry).bytes->size(), entry.size_bytes);
    } else {
      EXPECT_THROW(files_->open(entry), Error);
    }
  }
  EXPECT_FALSE(files_->entry("nothing-like-it"));
}

TEST_P(FileSystemContract, ADeletedFileIsListedOnlyWhenAskedFor) {
  const auto entries = all(with_deleted());
  EXPECT_EQ(entries.size(), 4 + GetParam().deleted);
  if (GetParam().deleted == 0) return;
  const auto deleted = std::find_if(entries.begin(), entries.end(), [](const Entry& entry) {
    return entry.state == EntryState::deleted;
  });
  ASSERT_NE(deleted, entries.end());
  EXPECT_FALSE(deleted->evidence.empty());
  EXPECT_EQ(kit::read_all(*files_->open(*deleted).bytes), kit::pattern(700, 3));
  WalkOptions alone;
  alone.active = false;
  alone.deleted = true;
  EXPECT_EQ(all(alone).size(), 1u);
}

TEST_P(FileSystemContract, AWalkKeepsToItsFolderAndDepth) {
  WalkOptions inside;
  inside.under = {"Keeper"};
  for (const Entry& entry : all(inside)) EXPECT_EQ(entry.path.at(0), "Keeper");
  EXPECT_EQ(all(inside).size(), 2u);
  WalkOptions flat;
  flat.max_depth = 1;
  EXPECT_EQ(all(flat).size(), 2u);
  std::size_t seen = 0;
  files_->walk({}, [&](const Entry&) { return ++seen == 1 ? WalkStep::stop : WalkStep::go_on; });
  EXPECT_EQ(seen, 1u);
  seen = 0;
  files_->walk({}, [&](const Entry& entry) {
    ++seen;
    return entry.kind == EntryKind::folder ? WalkStep::skip_folder : WalkStep::go_on;
  });
  EXPECT_EQ(seen, 2u);
}

TEST_P(FileSystemContract, AllocationLeavesNoGapAndAgreesWithTheFiles) {
  const Range whole{0, files_->facts().size_bytes};
  std::uint64_t at = 0;
  std::vector<std::pair<Range, bool>> runs;
  files_->allocation(whole, [&](Range range, bool used) {
    EXPECT_EQ(range.offset, at);
    at = range.end();
    runs.emplace_back(range, used);
    return true;
  });
  EXPECT_EQ(at, whole.length);
  const Content tide = files_->open(files_->find({"tide.bin"}).at(0));
  tide.bytes->extents({0, tide.bytes->size()}, [&](const Extent& extent) {
    const auto run = std::find_if(runs.begin(), runs.end(), [&](const auto& r) {
      return !intersect(r.first, {extent.below().offset, 1}).empty();
    });
    EXPECT_TRUE(run->second) << "a file's place is in use";
    const auto owners = files_->who_owns({extent.below().offset, 1});
    EXPECT_EQ(owners.size(), 1u);
    if (!owners.empty()) {
      EXPECT_EQ(owners[0].entry.path, std::vector<std::string>{"tide.bin"});
    }
    return true;
  });
}

TEST_P(FileSystemContract, AnyThreadMayRead) {
  std::vector<std::thread> threads;
  std::atomic<int> right = 0;
  for (int i = 0; i < 4; ++i)
    threads.emplace_back([&] {
      const auto found = files_->find({"Keeper", "log.txt"});
      if (found.size() == 1 &&
          kit::read_all(*files_->open(found[0]).bytes) == kit::pattern(1000, 1) &&
          all(with_deleted()).size() == 4 + GetParam().deleted)
        ++right;
    });
  for (std::thread& thread : threads) thread.join();
  EXPECT_EQ(right, 4);
}

TEST_P(FileSystemContract, TheSourceIsNotWrittenAndStreamsThatAreNotAreSaid) {
  const Entry entry = files_->find({"tide.bin"}).at(0);
  EXPECT_TRUE(files_->streams(entry).empty());
  EXPECT_THROW(files_->open(entry, "notes"), Error);
  EXPECT_EQ(volume_, GetParam().make());
}

}  // namespace
}  // namespace lantern
