// The one list of formats: what is told of a source, in which order, and who owns a volume in which
// several have left their structures.
#include <gtest/gtest.h>

#include "base/crc32c.h"
#include "kit/ext_builder.h"
#include "kit/fat_builder.h"
#include "lantern/format/registry.h"
#include "lantern/sources.h"
#include "nest/owner.h"

namespace lantern {
namespace {

constexpr std::size_t kMiB = 1u << 20;

kit::Bytes ext_volume() {
  kit::ExtBuilder volume;
  volume.folder(2, 2, kit::ExtBuilder::kRootBlock, {});
  kit::Bytes bytes = volume.bytes();
  bytes.resize(4 * kMiB);
  return bytes;
}

void put_btrfs(kit::Bytes& disk, std::uint64_t own, bool right = true) {
  const auto at = static_cast<std::size_t>(own);
  kit::put(disk, at + 0x30, own, 8);
  kit::put_text(disk, at + 64, "_BHRfS_M");
  kit::put(disk, at + 0xC9 + 8, disk.size(), 8);
  kit::put(disk, at, crc32c(std::span(disk).subspan(at + 32, 4096 - 32)) + (right ? 0u : 1u), 4);
}

// Version 1.0, before the end; `first_words` of its checksum are laid as they are.
void put_array_at_end(kit::Bytes& disk) {
  const std::size_t at = disk.size() / 4096 * 4096 - 8192;
  const std::uint64_t own = at / 512;
  kit::put(disk, at, 0xA92B4EFC, 4);
  kit::put(disk, at + 4, 1, 4);
  kit::put(disk, at + 136, own, 8);
  kit::put(disk, at + 144, own, 8);
  kit::put(disk, at + 216, 0xA92B4EFCull + 1 + 2 * own, 4);
}

std::vector<Recognition> of(const kit::Bytes& bytes) {
  return known_formats().recognise(*make_memory_source(bytes));
}

TEST(Registry, TellsWhetherAStructureIsVerified) {
  kit::Bytes disk(4 * kMiB);
  put_btrfs(disk, 65536);
  ASSERT_EQ(of(disk).size(), 1u);
  EXPECT_EQ(of(disk)[0].format, "btrfs");
  EXPECT_TRUE(of(disk)[0].verified);
  EXPECT_EQ(of(disk)[0].range, (Range{0, 4 * kMiB}));
  EXPECT_EQ(of(disk)[0].place, 65536u);
  put_btrfs(disk, 65536, false);
  EXPECT_FALSE(of(disk)[0].verified);
}

TEST(Registry, AStructureThatSpeaksOfAnotherPlaceIsNotOfThisVolume) {
  // A whole ext volume 1 MiB into the source: its superblock is not the source's.
  kit::Bytes disk(8 * kMiB);
  kit::put_bytes(disk, kMiB, ext_volume());
  EXPECT_TRUE(of(disk).empty());
  const auto inside = known_formats().probe(*make_memory_source(disk), kMiB + 1024);
  ASSERT_EQ(inside.size(), 1u);
  EXPECT_EQ(inside[0].range.offset, kMiB);
}

TEST(Registry, ALostHeaderIsToldByWhatIsBehindIt) {
  kit::Bytes disk(4 * kMiB);
  kit::put_text(disk, 512, "XAGF");
  kit::put_text(disk, 1024, "XAGI");
  ASSERT_EQ(of(disk).size(), 1u);
  EXPECT_EQ(of(disk)[0].format, "xfs");
  EXPECT_TRUE(of(disk)[0].from_copy);
}

TEST(Registry, MembersComeBeforeFileSystems) {
  kit::Bytes disk = ext_volume();
  put_array_at_end(disk);
  const auto found = of(disk);
  ASSERT_EQ(found.size(), 2u);
  EXPECT_EQ(found[0].format, "md");
  EXPECT_EQ(found[0].kind, FormatKind::array);
  EXPECT_EQ(found[1].format, "ext");
}

TEST(Registry, EverySectorOfAnythingMayBeAsked) {
  const kit::Bytes noise = kit::pattern(kMiB, 5);
  const SourcePtr source = make_memory_source(noise);
  for (const Format& format : known_formats().formats())
    for (const std::uint64_t at : {0ull, 512ull, kMiB - 512ull, kMiB - 1ull, kMiB * 1ull, ~0ull})
      format.probe(*source, std::min<std::uint64_t>(at, kMiB));
  EXPECT_EQ(known_formats().find("no such format"), nullptr);
  EXPECT_TRUE(of({}).empty());
}

struct Owned {
  std::vector<Recognition> found;
  std::shared_ptr<const FileSystem> files;
  const Recognition* owner;
};

Owned owned(const kit::Bytes& bytes) {
  Owned owned{of(bytes), open_file_system(make_memory_source(bytes), {}, Context()), nullptr};
  owned.owner = owner_of(owned.found, owned.files.get());
  return owned;
}

TEST(Owner, AFileSystemByItsOwnFirstStructureWinsOverRemains) {
  kit::Bytes disk = ext_volume();
  put_btrfs(disk, 65536);
  const Owned volume = owned(disk);
  ASSERT_NE(volume.owner, nullptr);
  EXPECT_EQ(volume.owner->format, "ext");
}

TEST(Owner, WhatIsVerifiedAndNotReadWinsOverAReadersGuess) {
  kit::Bytes disk = ext_volume();
  put_btrfs(disk, 65536);
  kit::put_bytes(disk, 1024 + 56, kit::Bytes(2));  // the mark of the superblock
  const Owned volume = owned(disk);
  ASSERT_NE(volume.owner, nullptr);
  EXPECT_EQ(volume.owner->format, "btrfs");
}

TEST(Owner, AMemberIsTheArraysAndItsContentMayBeRead) {
  kit::Bytes disk = ext_volume();
  put_array_at_end(disk);
  const Owned volume = owned(disk);
  ASSERT_NE(volume.owner, nullptr);
  ASSERT_NE(volume.files, nullptr);
  EXPECT_EQ(volume.owner->format, "md");
  // Its metadata stand at the end: what begins at byte 0 is the array's content.
  EXPECT_FALSE(is_remains(*volume.files, *volume.owner, disk.size()));
  Recognition at_start = *volume.owner;
  at_start.place = 4096;
  EXPECT_TRUE(is_remains(*volume.files, at_start, disk.size()));
}

}  // namespace
}  // namespace lantern
