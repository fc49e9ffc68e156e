#include "kit/disk_builder.h"

#include <algorithm>

namespace lantern::kit {
namespace {

// CRC-32 of IEEE 802.3, bit by bit: no code in common with what it checks.
std::uint32_t slow_crc(const Bytes& bytes) {
  std::uint32_t crc = ~0u;
  for (const std::byte b : bytes) {
    crc ^= std::to_integer<std::uint32_t>(b);
    for (int i = 0; i < 8; ++i) crc = crc >> 1 ^ ((crc & 1) != 0 ? 0xEDB88320u : 0u);
  }
  return ~crc;
}

Bytes part(const Bytes& bytes, std::size_t at, std::size_t length) {
  const auto from = bytes.begin() + static_cast<std::ptrdiff_t>(at);
  return Bytes(from, from + static_cast<std::ptrdiff_t>(length));
}

constexpr std::uint32_t kEntries = 128;
constexpr std::uint32_t kEntryBytes = 128;

void put_gpt_header(Bytes& disk, std::uint32_t sector, std::uint64_t own, std::uint64_t other,
                    std::uint64_t entries_lba) {
  const std::size_t at = own * sector;
  put_text(disk, at, "EFI PART");
  put(disk, at + 8, 0x00010000, 4);
  put(disk, at + 12, 92, 4);
  put(disk, at + 24, own, 8);
  put(disk, at + 32, other, 8);
  put(disk, at + 40, 34, 8);
  put(disk, at + 48, std::max(own, other) - 34, 8);
  put_text(disk, at + 56, "skerrow light 01");
  put(disk, at + 72, entries_lba, 8);
  put(disk, at + 80, kEntries, 4);
  put(disk, at + 84, kEntryBytes, 4);
  put(disk, at + 88, slow_crc(part(disk, entries_lba * sector, kEntries * kEntryBytes)), 4);
  mend_gpt_checksum(disk, at);
}

}  // namespace

void put_mbr(Bytes& disk, std::size_t record_at, const std::vector<MbrEntry>& entries) {
  std::size_t at = record_at + 446;
  for (const MbrEntry& entry : entries) {
    put(disk, at, entry.active ? 0x80 : 0, 1);
    put(disk, at + 4, static_cast<std::uint64_t>(entry.type), 1);
    put(disk, at + 8, entry.first_lba, 4);
    put(disk, at + 12, entry.sectors, 4);
    at += 16;
  }
  put(disk, record_at + 510, 0xAA55, 2);
}

void put_gpt(Bytes& disk, std::uint32_t sector, const std::vector<GptEntry>& entries) {
  const std::uint64_t last = disk.size() / sector - 1;
  const std::uint64_t entry_sectors = kEntries * kEntryBytes / sector;
  Bytes table(kEntries * kEntryBytes);
  for (std::size_t i = 0; i < entries.size(); ++i) {
    const std::size_t at = i * kEntryBytes;
    put(table, at, entries[i].efi ? 0x11D2F81FC12A7328 : 0x4433B9E5EBD0A0A2, 8);
    put(table, at + 8, entries[i].efi ? 0x3BC93EC9A0004BBA : 0xC79926B7B668C087, 8);
    put_text(table, at + 16, "volume guid 000" + std::to_string(i));
    put(table, at + 32, entries[i].first_lba, 8);
    put(table, at + 40, entries[i].last_lba, 8);
    for (std::size_t k = 0; k < entries[i].name.size(); ++k)
      put(table, at + 56 + k * 2, static_cast<unsigned char>(entries[i].name[k]), 2);
  }
  put_mbr(disk, 0, {{0xEE, 1, static_cast<std::uint32_t>(last), false}});
  put_bytes(disk, 2ull * sector, table);
  put_bytes(disk, (last - entry_sectors) * sector, table);
  put_gpt_header(disk, sector, 1, last, 2);
  put_gpt_header(disk, sector, last, 1, last - entry_sectors);
}

void mend_gpt_checksum(Bytes& disk, std::size_t header_at) {
  put(disk, header_at + 16, 0, 4);
  put(disk, header_at + 16, slow_crc(part(disk, header_at, 92)), 4);
}

Bytes make_vdi(const Bytes& disk, const VdiOptions& options) {
  const std::size_t block = options.block_bytes;
  const std::size_t blocks = (disk.size() + block - 1) / block;
  const std::size_t data_at = (kVdiMapAt + blocks * 4 + 511) / 512 * 512;
  Bytes file(data_at);
  put_text(file, 0, "<<< lantern test disk >>>\n");
  put(file, 0x40, 0xBEDA107F, 4);
  put(file, 0x44, 0x00010001, 4);
  put(file, 0x48, 0x190, 4);
  put(file, 0x4C, options.fixed ? 2 : 1, 4);
  put(file, 0x154, kVdiMapAt, 4);
  put(file, 0x158, data_at, 4);
  put(file, 0x168, 512, 4);
  put(file, 0x170, disk.size(), 8);
  put(file, 0x178, block, 4);
  put(file, 0x180, blocks, 4);
  put_text(file, 0x188, "skerrow vdi id 1");
  std::vector<std::size_t> stored;
  for (std::size_t i = 0; i < blocks; ++i) {
    const auto from = disk.begin() + static_cast<std::ptrdiff_t>(i * block);
    const auto to =
        disk.begin() + static_cast<std::ptrdiff_t>(std::min(disk.size(), (i + 1) * block));
    const bool empty = std::all_of(from, to, [](std::byte b) { return b == std::byte{0}; });
    put(file, kVdiMapAt + i * 4, 0xFFFFFFFF, 4);
    if (options.fixed || !empty) stored.push_back(i);
  }
  if (options.reversed) std::reverse(stored.begin(), stored.end());
  for (std::size_t place = 0; place < stored.size(); ++place) {
    const std::size_t i = stored[place];
    put(file, kVdiMapAt + i * 4, place, 4);
    Bytes content = part(disk, i * block, std::min(block, disk.size() - i * block));
    content.resize(block);
    put_bytes(file, data_at + place * block, content);
  }
  put(file, 0x184, stored.size(), 4);
  return file;
}

}  // namespace lantern::kit
