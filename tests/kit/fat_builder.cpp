#include "kit/fat_builder.h"

#include <algorithm>

namespace lantern::kit {
namespace {

constexpr std::size_t kSector = 512;
constexpr std::uint64_t kTopOf12 = 0xFFF;
constexpr std::uint64_t kTopOf16 = 0xFFFF;
constexpr std::uint64_t kTopOf32 = 0x0FFFFFFF;

std::uint8_t sum_of(const std::string& short_name) {
  std::uint8_t sum = 0;
  for (const char c : short_name)
    sum = static_cast<std::uint8_t>(((sum & 1) << 7) + (sum >> 1) + static_cast<unsigned char>(c));
  return sum;
}

// UTF-8 of the tests' own names, no character above U+FFFF.
std::u16string units_of(const std::string& name) {
  std::u16string units;
  for (std::size_t i = 0; i < name.size();) {
    const auto c = static_cast<unsigned char>(name[i]);
    const int more = c < 0x80 ? 0 : c < 0xE0 ? 1 : 2;
    unsigned code = more == 0 ? c : more == 1 ? c & 0x1Fu : c & 0x0Fu;
    for (int k = 1; k <= more; ++k)
      code =
          code << 6 | (static_cast<unsigned char>(name[i + static_cast<std::size_t>(k)]) & 0x3Fu);
    units += static_cast<char16_t>(code);
    i += static_cast<std::size_t>(more) + 1;
  }
  return units;
}

}  // namespace

std::string shortened(const std::string& name, unsigned number) {
  const std::size_t dot = name.rfind('.');
  std::string base;
  std::string extension;
  for (std::size_t i = 0; i < name.size(); ++i) {
    const auto c = static_cast<unsigned char>(name[i]);
    if (c == ' ' || c == '.') continue;
    std::string& part = dot != std::string::npos && i > dot ? extension : base;
    part += c >= 0x80 ? '_' : static_cast<char>(std::toupper(c));
  }
  base.resize(std::min<std::size_t>(base.size(), 6));
  base += "~" + std::to_string(number % 10);
  base.resize(8, ' ');
  extension.resize(3, ' ');
  return base + extension;
}

FatBuilder::FatBuilder(Width width)
    : FatBuilder(width,
                 width == Width::fat12   ? 500
                 : width == Width::fat16 ? 5000
                                         : 70000,
                 512) {}

FatBuilder::FatBuilder(Width width, std::uint32_t clusters, std::uint32_t cluster_bytes)
    : width_(width), clusters_(clusters), cluster_bytes_(cluster_bytes) {
  const bool wide = width == Width::fat32;
  const auto bits = static_cast<std::uint64_t>(width);
  reserved_bytes_ = wide ? 32 * kSector : kSector;
  table_bytes_ = ((clusters + 2) * bits / 8 + kSector) / kSector * kSector;
  root_bytes_ = wide ? 0 : 512 * 32;
  const std::uint64_t total =
      reserved_bytes_ + 2 * table_bytes_ + root_bytes_ + std::uint64_t{clusters} * cluster_bytes;
  bytes_.resize(total);
  Bytes boot(kSector);
  put(boot, 0, 0x903CEB, 3);
  put_text(boot, 3, "SKERROW ");
  put(boot, 11, kSector, 2);
  put(boot, 13, cluster_bytes / kSector, 1);
  put(boot, 14, reserved_bytes_ / kSector, 2);
  put(boot, 16, 2, 1);
  put(boot, 17, root_bytes_ / 32, 2);
  put(boot, 21, 0xF8, 1);
  put(boot, 22, wide ? 0 : table_bytes_ / kSector, 2);
  put(boot, 32, total / kSector, 4);
  const std::size_t tail = wide ? 64 : 36;
  if (wide) {
    put(boot, 36, table_bytes_ / kSector, 4);
    put(boot, 44, kRootCluster, 4);
    put(boot, 48, 1, 2);
    put(boot, 50, 6, 2);
  }
  put(boot, tail + 2, 0x29, 1);
  put(boot, tail + 3, 0x1A2B3C4D, 4);
  put_text(boot, tail + 7, "NO NAME    ");
  put(boot, 510, 0xAA55, 2);
  put_bytes(bytes_, 0, boot);
  if (wide) put_bytes(bytes_, 6 * kSector, boot);
  link(0, wide ? 0x0FFFFFF8 : width == Width::fat16 ? 0xFFF8 : 0xFF8);
  link(1, kTopOf32);
  if (wide) link(kRootCluster, kTopOf32);
  folder_clusters_.push_back({0, {kRootCluster}});
}

std::uint64_t FatBuilder::table_offset(int copy) const {
  return reserved_bytes_ + static_cast<std::uint64_t>(copy) * table_bytes_;
}

std::uint64_t FatBuilder::root_offset() const {
  return width_ == Width::fat32 ? cluster_offset(kRootCluster) : table_offset(2);
}

std::uint64_t FatBuilder::cluster_offset(std::uint32_t cluster) const {
  return table_offset(2) + root_bytes_ + std::uint64_t{cluster - 2} * cluster_bytes_;
}

void FatBuilder::link(std::uint32_t cluster, std::uint32_t value) {
  for (int copy = 0; copy < 2; ++copy) {
    const std::uint64_t base = table_offset(copy);
    if (width_ == Width::fat32) {
      put(bytes_, base + cluster * 4ull, value & kTopOf32, 4);
    } else if (width_ == Width::fat16) {
      put(bytes_, base + cluster * 2ull, value & kTopOf16, 2);
    } else {
      const std::uint64_t at = base + cluster * 3ull / 2;
      std::uint64_t pair = std::to_integer<std::uint64_t>(bytes_[at]) |
                           std::to_integer<std::uint64_t>(bytes_[at + 1]) << 8;
      const std::uint64_t short_value = value & kTopOf12;
      pair = cluster % 2 == 0 ? (pair & 0xF000) | short_value : (pair & 0x000F) | short_value << 4;
      put(bytes_, at, pair, 2);
    }
  }
}

std::uint64_t FatBuilder::slot_place(std::uint32_t folder, std::size_t index) {
  if (folder == 0 && width_ != Width::fat32) return root_offset() + index * 32;
  const auto row = std::find_if(folder_clusters_.begin(), folder_clusters_.end(),
                                [&](const auto& r) { return r.first == folder; });
  const std::size_t in_cluster = cluster_bytes_ / 32;
  return cluster_offset(row->second.at(index / in_cluster)) + index % in_cluster * 32;
}

std::uint64_t FatBuilder::add_slots(std::uint32_t folder, const std::string& name,
                                    const std::string& short_name, const Bytes& short_tail,
                                    bool long_name) {
  auto row = std::find_if(next_slot_.begin(), next_slot_.end(),
                          [&](const auto& r) { return r.first == folder; });
  if (row == next_slot_.end()) row = next_slot_.insert(row, {folder, folder == 0 ? 0u : 2u});
  std::u16string units = units_of(name);
  const std::size_t parts = long_name ? (units.size() + 12) / 13 : 0;
  if (units.size() % 13 != 0) units += u'\0';
  units.resize(parts * 13, u'\xFFFF');
  for (std::size_t part = parts; part > 0; --part) {
    Bytes slot(32);
    put(slot, 0, part | (part == parts ? 0x40 : 0), 1);
    put(slot, 11, 0x0F, 1);
    put(slot, 13, sum_of(short_name), 1);
    for (std::size_t i = 0; i < 13; ++i)
      put(slot,
          i < 5    ? 1 + i * 2
          : i < 11 ? 14 + (i - 5) * 2
                   : 28 + (i - 11) * 2,
          units[(part - 1) * 13 + i], 2);
    put_bytes(bytes_, slot_place(folder, row->second++), slot);
  }
  Bytes slot = short_tail;
  put_text(slot, 0, short_name);
  const std::uint64_t place = slot_place(folder, row->second++);
  put_bytes(bytes_, place, slot);
  return place;
}

std::uint64_t FatBuilder::file(std::uint32_t folder, const std::string& name, const Bytes& content,
                               const Clusters& clusters, const FileOptions& options) {
  for (std::size_t i = 0; i < clusters.size(); ++i) {
    link(clusters[i],
         i + 1 < clusters.size() ? clusters[i + 1] : static_cast<std::uint32_t>(kTopOf32));
    const std::size_t from = std::min(i * cluster_bytes_, content.size());
    const std::size_t to = std::min(from + cluster_bytes_, content.size());
    put_bytes(bytes_, cluster_offset(clusters[i]),
              Bytes(content.begin() + static_cast<std::ptrdiff_t>(from),
                    content.begin() + static_cast<std::ptrdiff_t>(to)));
  }
  Bytes tail(32);
  put(tail, 11, static_cast<std::uint64_t>(options.attributes), 1);
  put(tail, 13, static_cast<std::uint64_t>(options.hundredths), 1);
  for (const std::size_t at : {14u, 22u}) put(tail, at, options.time, 2);
  for (const std::size_t at : {16u, 18u, 24u}) put(tail, at, options.date, 2);
  const std::uint32_t first = clusters.empty() ? 0 : clusters[0];
  put(tail, 20, first >> 16, 2);
  put(tail, 26, first & 0xFFFF, 2);
  put(tail, 28, options.size_lie != 0 ? options.size_lie : content.size(), 4);
  return add_slots(folder, name,
                   options.short_name.empty() ? shortened(name, ++made_) : options.short_name, tail,
                   options.long_name);
}

std::uint64_t FatBuilder::folder(std::uint32_t parent, const std::string& name,
                                 const Clusters& clusters) {
  FileOptions options;
  options.attributes = 0x10;
  options.size_lie = 0;
  const std::uint64_t slot = file(parent, name, {}, clusters, options);
  folder_clusters_.push_back({clusters[0], clusters});
  for (const bool self : {true, false}) {
    Bytes dot(32);
    put_text(dot, 0, self ? ".          " : "..         ");
    put(dot, 11, 0x10, 1);
    put(dot, 14, options.time, 2);
    put(dot, 16, options.date, 2);
    const std::uint32_t cluster = self ? clusters[0] : parent;
    put(dot, 20, cluster >> 16, 2);
    put(dot, 26, cluster & 0xFFFF, 2);
    put_bytes(bytes_, cluster_offset(clusters[0]) + (self ? 0 : 32), dot);
  }
  return slot;
}

void FatBuilder::remove(std::uint64_t slot, const Clusters& clusters, bool wipe_high) {
  for (const std::uint32_t cluster : clusters) link(cluster, 0);
  bytes_[slot] = std::byte{0xE5};
  if (wipe_high) put(bytes_, slot + 20, 0, 2);
  for (std::uint64_t at = slot - 32; bytes_[at + 11] == std::byte{0x0F}; at -= 32)
    bytes_[at] = std::byte{0xE5};
}

void FatBuilder::extend_root(const Clusters& clusters) {
  Clusters& root = folder_clusters_.front().second;
  root.insert(root.end(), clusters.begin(), clusters.end());
}

void FatBuilder::label(const std::string& eleven_characters) {
  Bytes tail(32);
  put(tail, 11, 0x08, 1);
  add_slots(0, {}, eleven_characters, tail, false);
}

}  // namespace lantern::kit
