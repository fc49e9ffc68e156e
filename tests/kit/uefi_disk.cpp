#include "kit/uefi_disk.h"

#include "kit/disk_builder.h"
#include "kit/fat_builder.h"

namespace lantern::kit {
namespace {

// A UEFI program as far as its headers say so (PE format specification).
Bytes program() {
  Bytes bytes(4096);
  put_bytes(bytes, 0, bytes_of("MZ"));
  put(bytes, 0x3C, 0x80, 4);
  put_bytes(bytes, 0x80, bytes_of("PE"));
  put(bytes, 0x80 + 24, 0x20B, 2);
  put(bytes, 0x80 + 24 + 68, 10, 2);
  return bytes;
}

}  // namespace

UefiDisk::UefiDisk(Loader loader, Entry entry) {
  FatBuilder fat(FatBuilder::Width::fat16);
  const FatBuilder::Clusters clusters = {20, 21, 22, 23, 24, 25, 26, 27};
  fat.folder(0, "EFI", {10});
  fat.folder(10, "BOOT", {11});
  fat.folder(10, "station", {12});
  FatBuilder::FileOptions short_only;
  short_only.short_name = "BOOTX64 EFI";
  short_only.long_name = false;
  if (loader == Loader::elsewhere) {
    fat.file(12, "loader.efi", program(), clusters);
  } else if (loader != Loader::none) {
    const Bytes content = loader == Loader::not_a_program ? pattern(4096, 1) : program();
    const auto slot = fat.file(11, "BOOTX64.EFI", content, clusters, short_only);
    if (loader == Loader::deleted) fat.remove(slot, clusters);
  }
  const Bytes& volume = fat.bytes();
  volume_bytes = volume.size();
  disk.resize(kStart + volume.size() + 2048 * 512);
  std::vector<GptEntry> entries;
  if (entry != Entry::none)
    entries.push_back({2048, 2048 + volume.size() / 512 - 1, "EFI", entry == Entry::efi_system});
  put_gpt(disk, 512, entries);
  put_bytes(disk, kStart, volume);
}

}  // namespace lantern::kit
