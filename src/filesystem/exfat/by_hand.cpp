#include "filesystem/exfat/by_hand.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/store.h"

namespace lantern::exfat {
namespace {

constexpr std::uint64_t kMaxCluster = 32u << 20;
constexpr std::uint64_t kMaxTableBytes = std::uint64_t{1} << 34;
constexpr std::uint64_t kMaxClusters = 0xFFFFFFF5;
constexpr std::size_t kMaxFolders = 65536;

// A root folder with these folders in it, behind what is in `root`.
Bytes root_of(Bytes root, const std::vector<TablePiece>& folders, const Geometry& geometry) {
  constexpr std::size_t kSetBytes = 3 * kSlotBytes;
  for (std::size_t at = 0; at + kSlotBytes <= root.size(); at += kSlotBytes)
    if (u8(root, at) == 0) root.resize(at);
  for (const TablePiece& folder : folders) {
    if (root.size() >= kMaxFolders * kSetBytes) break;
    if (folder.table_offset > 0xFFFFFFFF ||
        !geometry.valid_cluster(static_cast<std::uint32_t>(folder.table_offset)))
      continue;
    const std::string name = fmt::format("{:08}", folder.table_offset);
    Bytes set(kSetBytes);
    set[0] = std::byte{0x85};
    set[1] = std::byte{2};
    set[4] = std::byte{0x10};  // a folder
    set[kSlotBytes] = std::byte{0xC0};
    // In one run as far as it was seen.
    set[kSlotBytes + 1] = std::byte{3};
    set[kSlotBytes + 3] = static_cast<std::byte>(std::min<std::size_t>(name.size(), 15));
    store_le32(set, kSlotBytes + 0x14, static_cast<std::uint32_t>(folder.table_offset));
    store_le64(set, kSlotBytes + 8, folder.length);
    store_le64(set, kSlotBytes + 0x18, folder.length);
    set[2 * kSlotBytes] = std::byte{0xC1};
    for (std::size_t i = 0; i < std::min<std::size_t>(name.size(), 15); ++i)
      set[2 * kSlotBytes + 2 + 2 * i] = static_cast<std::byte>(name[i]);
    store_le16(set, 2, sum_of_set(set));
    root.insert(root.end(), set.begin(), set.end());
  }
  root.resize(root.size() + kSlotBytes);  // the end mark
  return root;
}

}  // namespace

std::optional<Volume> by_hand(const SourcePtr& volume, const FileSystemOptions& options,
                              const Context& context) {
  const auto figure = [&](const char* key) {
    const auto given = options.geometry.find(key);
    return given == options.geometry.end() ? std::uint64_t{0} : given->second;
  };
  const std::uint64_t size = volume->size();
  const std::uint64_t cluster = figure("cluster"), data = figure("data");
  const std::uint64_t table = figure("table"), table_bytes = figure("table_bytes");
  const std::uint64_t root_cluster = figure("root_cluster"), root_bytes = figure("root_bytes");
  if (!is_power_of_two(cluster) || cluster < kSector || cluster > kMaxCluster || data >= size ||
      size - data < cluster || table >= size || table_bytes > kMaxTableBytes ||
      root_cluster > kMaxClusters || root_bytes > kMaxFolderBytes)
    return std::nullopt;
  Geometry g;
  g.sector_bytes = kSector;
  g.cluster_bytes = cluster;
  g.table_offset = table;
  g.table_bytes = table_bytes;
  g.heap_offset = data;
  std::uint64_t clusters = std::min((size - data) / cluster, kMaxClusters);
  if (table_bytes >= 12) clusters = std::min(clusters, table_bytes / 4 - 2);
  g.cluster_count = static_cast<std::uint32_t>(clusters);
  g.root_cluster = static_cast<std::uint32_t>(root_cluster);
  Volume made{volume, nullptr, g, nullptr, context};
  made.has_table = table_bytes > 0;
  made.root_clusters = made.has_table ? 0 : std::max<std::uint64_t>(1, root_bytes / cluster);
  const bool has_root = g.valid_cluster(g.root_cluster);
  if (!has_root || !options.table_pieces.empty()) {
    // In clusters of its own behind the last one.
    Bytes own(static_cast<std::size_t>(has_root ? std::max(root_bytes, cluster) : 0));
    own.resize(volume->read(has_root ? g.cluster_offset(g.root_cluster) : 0, own).length);
    Bytes root = root_of(std::move(own), options.table_pieces, g);
    const std::uint64_t length = divide_up(root.size(), cluster) * cluster;
    if (clusters + length / cluster > kMaxClusters) return std::nullopt;
    root.resize(static_cast<std::size_t>(length));
    const std::uint64_t end = data + clusters * cluster;
    made.geometry.root_cluster = static_cast<std::uint32_t>(clusters + 2);
    made.geometry.cluster_count += static_cast<std::uint32_t>(length / cluster);
    made.root_clusters = length / cluster;
    made.raw = make_joined({{ExtentKind::direct, end, volume, 0},
                            {ExtentKind::direct, length, make_memory_source(std::move(root)), 0}});
  }
  made.geometry.volume_bytes = made.raw->size();
  made.cached = make_cached(made.raw, context);
  return made;
}

}  // namespace lantern::exfat
