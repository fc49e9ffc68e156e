#include "filesystem/exfat/exfat.h"

#include <gtest/gtest.h>

#include "kit/exfat_builder.h"

namespace lantern {
namespace {

using kit::Bytes;
using kit::ExfatBuilder;

constexpr std::uint32_t kRoot = ExfatBuilder::kRoot;

class Exfat : public ::testing::Test {
 protected:
  std::shared_ptr<const FileSystem> open() {
    return open_exfat(make_memory_source(volume_.bytes()), {}, context_);
  }
  static Entry only(const FileSystem& files, const std::string& name) {
    const auto found = files.find({name});
    EXPECT_EQ(found.size(), 1u) << name;
    return found.empty() ? Entry() : found.front();
  }

  Context context_;
  ExfatBuilder volume_;
};

TEST_F(Exfat, ADeletedFileInOneRunComesBackWhole) {
  const Bytes content = kit::pattern(1400, 1);
  volume_.remove(volume_.file(kRoot, "count.csv", content, {20, 21, 22}), {20, 21, 22});
  const auto files = open();
  const Entry entry = only(*files, "count.csv");
  EXPECT_EQ(entry.state, EntryState::deleted);
  EXPECT_EQ(entry.intact, 1);
  EXPECT_EQ(kit::read_all(*files->open(entry).bytes), content);
}

TEST_F(Exfat, WhereADeletedChainIsCutTheNextFreeClustersAreAGuess) {
  const Bytes content = kit::pattern(1400, 1);
  volume_.remove(volume_.file(kRoot, "count.csv", content, {20, 22, 23}), {20, 22, 23});
  volume_.file(kRoot, "between", kit::pattern(500, 2), {21});
  volume_.link(20, 0);
  const auto files = open();
  const Entry entry = only(*files, "count.csv");
  EXPECT_NEAR(*entry.intact, 1 - 0.5 * (1400 - 512) / 1400, 1e-9);
  EXPECT_NE(entry.evidence.find("guess"), std::string::npos);
  const Content left = files->open(entry);
  EXPECT_EQ(kit::read_all(*left.bytes), content);
  EXPECT_EQ(left.doubtful, (std::vector<Range>{{512, 888}}));
}

TEST_F(Exfat, ClustersOfADeletedFileThatAreAnothersAreLost) {
  volume_.remove(volume_.file(kRoot, "count.csv", kit::pattern(1400, 1), {20, 21, 22}),
                 {20, 21, 22});
  volume_.file(kRoot, "new", kit::pattern(500, 2), {21});
  const auto files = open();
  const Entry entry = only(*files, "count.csv");
  EXPECT_EQ(files->open(entry).lost, (std::vector<Range>{{512, 512}}));
}

TEST_F(Exfat, AChainThatLoopsEndsAndTheRestIsLost) {
  volume_.file(kRoot, "loop.bin", kit::pattern(2000, 1), {20, 30, 22, 40});
  volume_.link(22, 20);
  const auto files = open();
  const Entry entry = only(*files, "loop.bin");
  EXPECT_LT(*entry.intact, 1);
  EXPECT_EQ(files->open(entry).bytes->size(), 2000u);
}

TEST_F(Exfat, ASetWithAWrongSumIsReadWithAWord) {
  const std::size_t set = volume_.file(kRoot, "count.csv", kit::pattern(100, 1), {20});
  volume_.bytes()[set + 2] ^= std::byte{1};
  EXPECT_EQ(only(*open(), "count.csv").state, EntryState::active);
  EXPECT_EQ(to_string(context_.findings->all().at(0).code), "exfat.folder");
}

TEST_F(Exfat, NamesAreComparedByTheVolumesOwnCapitals) {
  volume_.file(kRoot, "tarn", kit::pattern(100, 1), {20});
  EXPECT_TRUE(open()->find({"tbrn"}).empty());
  // FFFF and how many stand for themselves; then "a" is a B.
  Bytes table;
  for (const std::uint64_t unit : {0xFFFFu, 0x61u, 0x42u}) kit::put(table, table.size(), unit, 2);
  volume_.capitals(table, 60);
  EXPECT_EQ(open()->find({"tbrn"}).size(), 1u);
  EXPECT_TRUE(open()->find({"tcrn"}).empty());
}

}  // namespace
}  // namespace lantern
