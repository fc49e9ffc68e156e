#include "kit/exfat_builder.h"

#include <algorithm>

namespace lantern::kit {
namespace {

constexpr std::size_t kSlot = 32;
constexpr std::size_t kSector = 512;

}  // namespace

ExfatBuilder::ExfatBuilder() : bytes_(kHeap + kClusters * kCluster) {
  for (const std::size_t region : {std::size_t{0}, 12 * kSector}) {
    put_text(bytes_, region + 3, "EXFAT   ");
    put(bytes_, region + 0x48, bytes_.size() / kSector, 8);
    put(bytes_, region + 0x50, kTable / kSector, 4);
    put(bytes_, region + 0x54, 8, 4);
    put(bytes_, region + 0x58, kHeap / kSector, 4);
    put(bytes_, region + 0x5C, kClusters, 4);
    put(bytes_, region + 0x60, kRoot, 4);
    put(bytes_, region + 0x64, 0x12345678, 4);
    put(bytes_, region + 0x6C, 9, 1);
    put(bytes_, region + 0x6E, 1, 1);
    put(bytes_, region + 0x1FE, 0xAA55, 2);
  }
  sum_boot_regions();
  use(kBitmap);
  use(kRoot);
  link(kBitmap, 0xFFFFFFFF);
  link(kRoot, 0xFFFFFFFF);
  put(bytes_, place(kRoot), 0x81, 1);
  put(bytes_, place(kRoot) + 0x14, kBitmap, 4);
  put(bytes_, place(kRoot) + 0x18, (kClusters + 7) / 8, 8);
  put(bytes_, place(kRoot) + kSlot, 0x83, 1);
  put(bytes_, place(kRoot) + kSlot + 1, 3, 1);
  for (std::size_t i = 0; i < 3; ++i)
    put(bytes_, place(kRoot) + kSlot + 2 + i * 2, static_cast<unsigned char>("TID"[i]), 2);
}

void ExfatBuilder::sum_boot_regions() {
  for (const std::size_t region : {std::size_t{0}, 12 * kSector}) {
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < 11 * kSector; ++i)
      if (i != 0x6A && i != 0x6B && i != 0x70)
        sum = ((sum & 1) << 31 | sum >> 1) + std::to_integer<std::uint32_t>(bytes_[region + i]);
    for (std::size_t i = 0; i < kSector; i += 4) put(bytes_, region + 11 * kSector + i, sum, 4);
  }
}

std::size_t ExfatBuilder::add_set(std::uint32_t folder, const std::string& name,
                                  std::uint16_t attributes, bool one_run, std::uint32_t first,
                                  std::uint64_t size) {
  std::size_t at = place(folder);
  while (bytes_[at] != std::byte{0}) at += kSlot;
  const std::size_t names = (name.size() + 14) / 15;
  put(bytes_, at, 0x85, 1);
  put(bytes_, at + 1, 1 + names, 1);
  put(bytes_, at + 4, attributes, 2);
  // 2026-03-14 08:30:02, UTC.
  const std::uint32_t stamp = (46u << 25) | (3u << 21) | (14u << 16) | (8u << 11) | (30u << 5) | 1u;
  for (const std::size_t time : {8u, 12u, 16u}) put(bytes_, at + time, stamp, 4);
  for (const std::size_t zone : {0x16u, 0x17u, 0x18u}) put(bytes_, at + zone, 0x80, 1);
  const std::size_t stream = at + kSlot;
  put(bytes_, stream, 0xC0, 1);
  put(bytes_, stream + 1, one_run ? 3 : 1, 1);
  put(bytes_, stream + 3, name.size(), 1);
  put(bytes_, stream + 8, size, 8);
  put(bytes_, stream + 0x14, first, 4);
  put(bytes_, stream + 0x18, size, 8);
  for (std::size_t i = 0; i < name.size(); ++i) {
    const std::size_t slot = stream + kSlot + i / 15 * kSlot;
    put(bytes_, slot, 0xC1, 1);
    put(bytes_, slot + 2 + i % 15 * 2, static_cast<unsigned char>(name[i]), 2);
  }
  std::uint16_t sum = 0;
  for (std::size_t i = 0; i < (2 + names) * kSlot; ++i)
    if (i != 2 && i != 3)
      sum = static_cast<std::uint16_t>(((sum & 1u) << 15 | sum >> 1u) +
                                       std::to_integer<unsigned>(bytes_[at + i]));
  put(bytes_, at + 2, sum, 2);
  return at;
}

std::size_t ExfatBuilder::file(std::uint32_t folder, const std::string& name, const Bytes& content,
                               const std::vector<std::uint32_t>& clusters) {
  bool one_run = true;
  for (std::size_t i = 0; i < clusters.size(); ++i) {
    use(clusters[i]);
    one_run = one_run && clusters[i] == clusters[0] + i;
    const std::size_t from = i * kCluster;
    const std::size_t length = std::min(kCluster, content.size() - from);
    std::copy_n(content.begin() + static_cast<std::ptrdiff_t>(from), length,
                bytes_.begin() + static_cast<std::ptrdiff_t>(place(clusters[i])));
  }
  for (std::size_t i = 0; !one_run && i < clusters.size(); ++i)
    link(clusters[i], i + 1 < clusters.size() ? clusters[i + 1] : 0xFFFFFFFF);
  return add_set(folder, name, 0x20, one_run, clusters.empty() ? 0 : clusters[0], content.size());
}

std::size_t ExfatBuilder::folder(std::uint32_t folder, const std::string& name,
                                 std::uint32_t cluster) {
  use(cluster);
  return add_set(folder, name, 0x10, true, cluster, kCluster);
}

void ExfatBuilder::remove(std::size_t set, const std::vector<std::uint32_t>& clusters) {
  const std::size_t slots = 1 + std::to_integer<std::size_t>(bytes_[set + 1]);
  for (std::size_t i = 0; i < slots; ++i) bytes_[set + i * kSlot] &= std::byte{0x7F};
  for (const std::uint32_t cluster : clusters) use(cluster, false);
}

void ExfatBuilder::capitals(const Bytes& table, std::uint32_t cluster) {
  std::size_t at = place(kRoot);
  while (bytes_[at] != std::byte{0}) at += kSlot;
  put(bytes_, at, 0x82, 1);
  put(bytes_, at + 0x14, cluster, 4);
  put(bytes_, at + 0x18, table.size(), 8);
  put_bytes(bytes_, place(cluster), table);
  use(cluster);
  link(cluster, 0xFFFFFFFF);
}

void ExfatBuilder::link(std::uint32_t cluster, std::uint32_t next) {
  put(bytes_, kTable + cluster * 4, next, 4);
}

void ExfatBuilder::use(std::uint32_t cluster, bool used) {
  std::byte& byte = bytes_[place(kBitmap) + (cluster - 2) / 8];
  const auto bit = static_cast<std::byte>(1 << (cluster - 2) % 8);
  byte = used ? byte | bit : byte & ~bit;
}

}  // namespace lantern::kit
