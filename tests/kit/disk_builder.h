// Lays partition tables and VDI files by hand.
#pragma once

#include "kit/bytes.h"

namespace lantern::kit {

struct MbrEntry {
  int type = 0;
  std::uint32_t first_lba = 0;
  std::uint32_t sectors = 0;
  bool active = false;
};

// Writes a boot record with these entries at `record_at` bytes.
void put_mbr(Bytes& disk, std::size_t record_at, const std::vector<MbrEntry>& entries);

struct GptEntry {
  std::uint64_t first_lba = 0;
  std::uint64_t last_lba = 0;
  std::string name;
  bool efi = false;  // an EFI system partition; else basic data
};

// Both copies and the protective MBR over a disk of the given size; its sectors have `sector`
// bytes.
void put_gpt(Bytes& disk, std::uint32_t sector, const std::vector<GptEntry>& entries);

// Makes the checksums of the header at `header_at` right again after it was changed.
void mend_gpt_checksum(Bytes& disk, std::size_t header_at);

struct VdiOptions {
  std::uint32_t block_bytes = 1 << 20;
  bool fixed = false;
  bool reversed = false;  // blocks stored last first
};

// Blocks that are all zero are not stored unless fixed.
Bytes make_vdi(const Bytes& disk, const VdiOptions& options);

// Where the block map begins in what make_vdi lays.
constexpr std::size_t kVdiMapAt = 1024;

}  // namespace lantern::kit
