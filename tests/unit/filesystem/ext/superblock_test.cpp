#include "filesystem/ext/superblock.h"

#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "kit/ext_builder.h"
#include "lantern/sources.h"

namespace lantern::ext {
namespace {

using kit::Bytes;

TEST(ExtSuperblock, FiguresThatCannotBeAreNone) {
  const Bytes volume = kit::ExtBuilder().bytes();
  const Bytes own(volume.begin() + 1024, volume.begin() + 2048);
  ASSERT_TRUE(parse_superblock(own, 1024));
  EXPECT_FALSE(parse_superblock(Bytes(1024), 1024));
  EXPECT_FALSE(parse_superblock(Bytes(own.begin(), own.begin() + 500), 1024)) << "cut";
  const std::vector<std::pair<std::size_t, std::uint32_t>> wrong = {
      {0x00, 0},   // inodes
      {0x04, 0},   // blocks
      {0x18, 40},  // log of a block's size
      {0x20, 0},   // blocks of a group
      {0x28, 0}};  // inodes of a group
  for (const auto& [at, value] : wrong) {
    Bytes damaged = own;
    kit::put(damaged, at, value, 4);
    EXPECT_FALSE(parse_superblock(damaged, 1024)) << "at " << at;
  }
  Bytes damaged = own;
  kit::put(damaged, 0x38, 0, 2);  // the magic
  EXPECT_FALSE(parse_superblock(damaged, 1024));
}

TEST(ExtSuperblock, IsReadWhereverItIsSaidToBe) {
  Bytes volume = kit::ExtBuilder().bytes();
  const auto source = [&] { return make_memory_source(volume); };
  EXPECT_EQ(find_superblocks(*source()).size(), 1u);
  std::copy_n(volume.begin() + 1024, 1024, volume.begin() + 77'000);
  std::fill_n(volume.begin() + 1024, 1024, std::byte{0});
  EXPECT_TRUE(find_superblocks(*source()).empty());
  ASSERT_EQ(superblock_at(*source(), 77'000).size(), 1u);
  EXPECT_EQ(superblock_at(*source(), 77'000)[0].place, 77'000u);
  EXPECT_TRUE(superblock_at(*source(), 76'999).empty());
  EXPECT_TRUE(superblock_at(*source(), ~std::uint64_t{0}).empty());
}

}  // namespace
}  // namespace lantern::ext
