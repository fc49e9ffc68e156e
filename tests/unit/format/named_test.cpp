// Volumes of kinds that are not read, told by headers laid by hand from their public descriptions.
#include <gtest/gtest.h>
#include <libdeflate.h>

#include "base/crc32c.h"
#include "base/sha256.h"
#include "kit/bytes.h"
#include "lantern/sources.h"
#include "lantern/sweep.h"

namespace lantern {
namespace {

constexpr std::size_t kMiB = 1u << 20;
constexpr std::size_t kStart = 2 * kMiB;

void put_big(kit::Bytes& bytes, std::size_t at, std::uint64_t value, std::size_t width) {
  for (std::size_t i = 0; i < width; ++i)
    bytes[at + i] = static_cast<std::byte>(value >> 8 * (width - 1 - i));
}

void store_xfs(kit::Bytes& disk, std::size_t at, unsigned group) {
  kit::put_text(disk, at, "XFSB");
  put_big(disk, at + 4, 4096, 4);
  put_big(disk, at + 8, 1024, 8);
  put_big(disk, at + 102, 512, 2);
  kit::put_text(disk, at + 512, "XAGF");
  put_big(disk, at + 512 + 8, group, 4);
}

void store_btrfs(kit::Bytes& disk, std::size_t at) {
  const std::size_t super = at + 65536;
  kit::put(disk, super + 0x30, 65536, 8);
  kit::put_text(disk, super + 64, "_BHRfS_M");
  kit::put(disk, super + 0xC9 + 8, 5 * kMiB, 8);
  kit::put(disk, super, crc32c(std::span(disk).subspan(super + 32, 4096 - 32)), 4);
}

void store_swap(kit::Bytes& disk, std::size_t at) {
  kit::put(disk, at + 1024, 1, 4);
  kit::put(disk, at + 1028, 511, 4);
  kit::put_text(disk, at + 4086, "SWAPSPACE2");
}

void store_lvm(kit::Bytes& disk, std::size_t at) {
  const std::size_t label = at + 512;
  kit::put_text(disk, label, "LABELONE");
  kit::put(disk, label + 8, 1, 8);
  kit::put(disk, label + 20, 32, 4);
  kit::put_text(disk, label + 24, "LVM2 001");
  kit::put(disk, label + 32 + 32, 6 * kMiB, 8);
  kit::put(disk, label + 16, ~libdeflate_crc32(~0xF597A6CFu, &disk[label + 20], 492), 4);
}

void store_luks(kit::Bytes& disk, std::size_t at) {
  kit::put_text(disk, at, "LUKS\xBA\xBE");
  put_big(disk, at + 6, 2, 2);
  put_big(disk, at + 8, 16384, 8);
  kit::put_text(disk, at + 72, "sha256");
  std::string whole(reinterpret_cast<const char*>(&disk[at]), 16384);
  const std::string sum = sha256_hex(whole);
  for (std::size_t i = 0; i < 32; ++i)
    kit::put(disk, at + 448 + i, std::stoul(sum.substr(2 * i, 2), nullptr, 16), 1);
  kit::put_text(disk, at + 16384, "SKUL\xBA\xBE");
}

void store_array_member(kit::Bytes& disk, std::size_t at) {
  kit::put(disk, at + 4096, 0xA92B4EFC, 4);
  kit::put(disk, at + 4100, 1, 4);
  kit::put(disk, at + 4096 + 128, 2048, 8);
  kit::put(disk, at + 4096 + 136, 4096, 8);
  kit::put(disk, at + 4096 + 144, 8, 8);
  // The sum of its words.
  kit::put(disk, at + 4096 + 216, 0xA92B4EFCu + 1 + 2048 + 4096 + 8, 4);
}

VolumeSearch searched(const kit::Bytes& disk) {
  VolumeSearchOptions usual;
  usual.usual_places_only = true;
  return search_volumes(make_memory_source(disk), {}, usual, Context());
}

struct Kind {
  const char* name;
  void (*lay)(kit::Bytes&, std::size_t);
  std::size_t length;
};
const Kind kKinds[] = {
    {"xfs", [](kit::Bytes& disk, std::size_t at) { store_xfs(disk, at, 0); }, 4 * kMiB},
    {"btrfs", store_btrfs, 5 * kMiB},
    {"swap", store_swap, 2 * kMiB},
    {"lvm", store_lvm, 6 * kMiB},
    {"luks2", store_luks, 14 * kMiB},
    {"md", store_array_member, 3 * kMiB}};

TEST(NamedVolume, SaysItsKindAndItsLength) {
  for (const Kind& kind : kKinds) {
    kit::Bytes disk(16 * kMiB);
    kind.lay(disk, kStart);
    const VolumeSearch found = searched(disk);
    ASSERT_EQ(found.volumes.size(), 1u) << kind.name;
    EXPECT_EQ(found.volumes[0].file_system, kind.name);
    EXPECT_EQ(found.volumes[0].range, (Range{kStart, kind.length})) << kind.name;
    EXPECT_FALSE(found.volumes[0].is_read) << kind.name;
    EXPECT_GE(found.volumes[0].score, 8u) << kind.name;
  }
}

TEST(NamedVolume, IsFoundWhereNoneUsuallyIs) {
  for (const Kind& kind : kKinds) {
    kit::Bytes disk(16 * kMiB);
    kind.lay(disk, kStart + 37 * 512);
    EXPECT_TRUE(searched(disk).volumes.empty()) << kind.name;
    VolumeSearchOptions all;
    all.every_sector = true;
    const VolumeSearch found = search_volumes(make_memory_source(disk), {}, all, Context());
    ASSERT_EQ(found.volumes.size(), 1u) << kind.name;
    EXPECT_EQ(found.volumes[0].range.offset, kStart + 37 * 512) << kind.name;
  }
}

TEST(NamedVolume, TheCopyInALaterGroupIsNone) {
  kit::Bytes disk(16 * kMiB);
  store_xfs(disk, kStart, 0);
  store_xfs(disk, 4 * kMiB, 1);
  EXPECT_EQ(searched(disk).volumes.size(), 1u);
  EXPECT_TRUE(searched(disk).inside.empty());
}

TEST(NamedVolume, WhatIsEncryptedEndsAtTheNext) {
  kit::Bytes disk(16 * kMiB);
  store_luks(disk, kStart);
  store_swap(disk, 9 * kMiB);
  const VolumeSearch found = searched(disk);
  ASSERT_EQ(found.volumes.size(), 2u);
  EXPECT_TRUE(found.volumes[0].open_end);
  EXPECT_EQ(found.volumes[0].range, (Range{kStart, 7 * kMiB}));
}

TEST(NamedVolume, EveryByteOfAHeaderMayBeWrong) {
  for (const Kind& kind : kKinds) {
    kit::Bytes whole(16 * kMiB);
    kind.lay(whole, kStart);
    const SourcePtr source = make_memory_source(whole);
    for (std::size_t i = 0; i < 4096 + 512; i += 3) {
      if (whole[kStart + i] == std::byte{0}) continue;
      kit::Bytes start(whole.begin() + kStart, whole.begin() + kStart + 128 * 1024);
      start[i] = static_cast<std::byte>(0xFF);
      const VolumeSearch found = search_volumes(make_memory_source(start), {}, {}, Context());
      for (const FoundVolume& volume : found.volumes)
        EXPECT_LE(volume.range.offset, start.size()) << kind.name << " " << i;
    }
  }
}

}  // namespace
}  // namespace lantern
