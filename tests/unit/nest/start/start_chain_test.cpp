#include "lantern/nest/start_chain.h"

#include <gtest/gtest.h>

#include "kit/disk_builder.h"
#include "kit/fat_builder.h"
#include "kit/uefi_disk.h"
#include "lantern/nest/session.h"
#include "nest/start/loaders.h"

namespace lantern {
namespace {

using kit::Bytes;
using kit::FatBuilder;

constexpr std::size_t kStart = 2048 * 512;

// Code as long as a loader's, with these words in it.
void put_code(Bytes& disk, std::size_t at, std::size_t length, const std::string& words) {
  for (std::size_t i = 0; i < length; ++i) kit::put(disk, at + i, 0x90 + i % 16, 1);
  kit::put_bytes(disk, at + length - words.size(), kit::bytes_of(words));
}

// A disk that starts by the boot manager of its one volume, a FAT16.
struct BiosDisk {
  explicit BiosDisk(const std::vector<std::string>& files = {"bootmgr"}, bool bcd = true,
                    bool active = true) {
    FatBuilder fat(FatBuilder::Width::fat16);
    std::uint32_t cluster = 10;
    for (const std::string& name : files) {
      slots.push_back(fat.file(0, name, kit::pattern(100, cluster), {cluster}));
      ++cluster;
    }
    fat.folder(0, "Boot", {30});
    if (bcd) fat.file(30, "BCD", kit::pattern(100, 3), {31});
    for (const std::uint64_t slot : removed) fat.remove(slot, {10});
    volume = fat.bytes();
    put_code(volume, 0x60, 0x190, "BOOTMGR is missing");
    kit::put(volume, 28, 2048, 4);
    kit::put(volume, 510, 0xAA55, 2);
    disk.resize(kStart + volume.size());
    put_code(disk, 0, 440, "Error loading operating system");
    kit::put_mbr(disk, 0, {{0x0E, 2048, static_cast<std::uint32_t>(volume.size() / 512), active}});
    kit::put_bytes(disk, kStart, volume);
  }
  std::vector<std::uint64_t> slots, removed;
  Bytes volume, disk;
};

std::vector<StartChain> chains_of(const Bytes& bytes) {
  const kit::Folder folder;
  const Context context;
  const Session session({}, context);
  const Target target = session.open_disk(Address{folder.file("disk.img", bytes), {}});
  return read_start_chains(target.disk(), {}, context);
}

// "broken boot code" of the only chain, or "starts".
std::string outcome(const Bytes& bytes) {
  const std::vector<StartChain> chains = chains_of(bytes);
  if (chains.empty()) return "no loader";
  if (chains.size() > 1) return "several chains";
  const StartChain& chain = chains.front();
  if (chain.links.back().state == LinkState::good) return std::string(to_string(chain.verdict()));
  return std::string(to_string(chain.links.back().state)) + " " + chain.links.back().name;
}

TEST(StartChainOfBios, AHealthyOneStartsAndNamesItsLoaders) {
  const std::vector<StartChain> chains = chains_of(BiosDisk().disk);
  ASSERT_EQ(chains.size(), 1u);
  EXPECT_EQ(chains[0].firmware, Firmware::bios);
  EXPECT_EQ(chains[0].verdict(), StartVerdict::starts);
  ASSERT_EQ(chains[0].links.size(), 5u);
  EXPECT_EQ(chains[0].links[1].what, "the usual code of DOS and Windows");
  EXPECT_EQ(chains[0].links[3].what, "BOOTMGR");
  EXPECT_EQ(chains[0].links[4].what, "/bootmgr, /Boot/BCD");
  EXPECT_EQ(chains[0].problem(), nullptr);
}

TEST(StartChainOfBios, EachBrokenLinkIsTheLast) {
  const struct {
    std::size_t at, length;
    const char* broken;
  } kCases[] = {{510, 2, "broken sector 0"},
                {0, 440, "broken boot code"},
                {446, 1, "broken active entry"},
                {kStart + 510, 2, "broken boot record of volume 1"},
                {kStart + 0x54, 0x1A8, "broken boot record of volume 1"},
                {kStart + 28, 4, "broken boot record of volume 1"}};
  for (const auto& one : kCases) {
    Bytes disk = BiosDisk().disk;
    std::fill_n(disk.begin() + static_cast<std::ptrdiff_t>(one.at), one.length, std::byte{0});
    EXPECT_EQ(outcome(disk), one.broken) << one.at;
  }
}

TEST(StartChainOfBios, ALoadersFileThatIsMissingIsNamed) {
  EXPECT_EQ(outcome(BiosDisk({"bootmgr"}, false).disk), "broken loader files");
  const auto chains = chains_of(BiosDisk({"log.txt"}).disk);
  ASSERT_EQ(chains.size(), 1u) << "an entry is active";
  EXPECT_EQ(chains[0].links.back().what, "BOOTMGR needs \"bootmgr\", which is missing");
}

TEST(StartChainOfBios, CodeThatIsNotKnownIsNotCalledGood) {
  Bytes disk = BiosDisk().disk;
  put_code(disk, 0, 440, "nothing known");
  const auto chains = chains_of(disk);
  ASSERT_EQ(chains.size(), 1u);
  EXPECT_EQ(chains[0].verdict(), StartVerdict::may_start);
  EXPECT_EQ(chains[0].links[1].state, LinkState::unchecked);
}

TEST(StartChainOfBios, ABootSectorThatIsSectorZeroAgainStartsItselfForEver) {
  Bytes disk = BiosDisk().disk;
  std::copy_n(disk.begin(), 440, disk.begin() + kStart);
  EXPECT_EQ(outcome(disk), "broken boot record of volume 1");
}

TEST(StartChainOfBios, ADiskOfDataHasNone) {
  EXPECT_EQ(outcome(BiosDisk({"log.txt"}, false, false).disk), "no loader");
  EXPECT_EQ(outcome(Bytes(1 << 20)), "no loader");
}

// GRUB's code, with its core in sectors 1 to 9.
Bytes grub_disk() {
  Bytes disk = BiosDisk({"log.txt"}, false, false).disk;
  put_code(disk, 0, 440, "");
  kit::put_bytes(disk, 0x180, kit::bytes_of("GRUB "));
  kit::put(disk, 0x5C, 1, 8);
  put_code(disk, 512, 9 * 512, "core");
  kit::put(disk, 512 + 0x1F4, 2, 8);
  kit::put(disk, 512 + 0x1FC, 8, 2);
  kit::put(disk, 512 + 0x1F0, 0, 2);
  return disk;
}

TEST(StartChainOfBios, TheSectorsOfGrubAreFollowed) {
  EXPECT_EQ(outcome(grub_disk()), "doubtful loader files") << "its files are on no volume";
  Bytes lost = grub_disk();
  std::fill_n(lost.begin() + 1024, 8 * 512, std::byte{0});
  EXPECT_EQ(outcome(lost), "broken loader");
  Bytes past = grub_disk();
  kit::put(past, 512 + 0x1F4, ~0ull, 8);
  EXPECT_EQ(outcome(past), "broken loader");
}

using kit::UefiDisk;

TEST(StartChainOfUefi, TheDefaultLoaderStarts) {
  EXPECT_EQ(outcome(UefiDisk().disk), "starts");
}

TEST(StartChainOfUefi, WhatIsWrongWithTheLoaderIsSaid) {
  using Loader = UefiDisk::Loader;
  EXPECT_EQ(outcome(UefiDisk(Loader::deleted).disk), "broken loader");
  EXPECT_EQ(outcome(UefiDisk(Loader::none).disk), "broken loader");
  EXPECT_EQ(outcome(UefiDisk(Loader::not_a_program).disk), "broken loader");
  EXPECT_EQ(outcome(UefiDisk(Loader::elsewhere).disk), "doubtful loader");
}

TEST(StartChainOfUefi, AnotherTypeIsDoubtfulAndNoProtectiveEntryBreaks) {
  const auto chains =
      chains_of(UefiDisk(UefiDisk::Loader::there, UefiDisk::Entry::basic_data).disk);
  ASSERT_EQ(chains.size(), 1u);
  EXPECT_EQ(chains[0].verdict(), StartVerdict::may_start);
  ASSERT_NE(chains[0].problem(), nullptr);
  EXPECT_EQ(chains[0].problem()->code, FindingCode::start_efi_partition);
  Bytes disk = UefiDisk().disk;
  std::fill_n(disk.begin(), 512, std::byte{0});
  EXPECT_EQ(outcome(disk), "broken partition table");
}

TEST(LoaderCode, OfEverySizeAndNoneIsRead) {
  EXPECT_EQ(start::code_of_sector_zero(Bytes(512)).kind, start::CodeKind::none);
  EXPECT_EQ(start::code_of_boot_record(Bytes(512)).kind, start::CodeKind::none);
  Bytes excuse(512);
  put_code(excuse, 0x60, 0x100, "This is not a bootable disk.");
  EXPECT_EQ(start::code_of_boot_record(excuse).kind, start::CodeKind::excuse);
  for (const char* const loader : {"BOOTMGR", "NTLDR", "SYSLINUX", "GRUB"})
    EXPECT_FALSE(start::files_of(loader).empty()) << loader;
  EXPECT_TRUE(start::files_of("a stranger").empty());
}

}  // namespace
}  // namespace lantern
