#include "filesystem/fat/by_hand.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/store.h"
#include "filesystem/fat/slots.h"
#include "lantern/sources.h"

namespace lantern::fat {
namespace {

constexpr std::uint64_t kMaxCluster = 256u << 10;
constexpr std::uint64_t kMaxTableBytes = std::uint64_t{1} << 30;
constexpr std::uint64_t kMaxRootBytes = 2u << 20;
constexpr std::size_t kMaxFolders = 65536;

std::uint64_t most_clusters(Width width) {
  return width == Width::fat12 ? 4084 : width == Width::fat16 ? 65524 : 0x0FFFFFF5;
}

// A root folder with these folders in it, each with the dates of its own "." slot, behind what is
// in `root`.
Bytes root_of(Bytes root, const std::vector<TablePiece>& folders, const ByteSource& volume) {
  for (std::size_t at = 0; at + kSlotBytes <= root.size(); at += kSlotBytes)
    if (u8(root, at) == 0) root.resize(at);
  for (const TablePiece& folder : folders) {
    if (root.size() >= kMaxFolders * kSlotBytes) break;
    if (folder.length == 0) continue;
    Bytes slot(kSlotBytes);
    if (volume.read(folder.volume_offset, slot).length < slot.size()) continue;
    store_text(slot, 0, fmt::format("{:08}   ", folder.table_offset % 100'000'000));
    root.insert(root.end(), slot.begin(), slot.end());
  }
  root.resize(root.size() + kSlotBytes);  // the end mark
  return root;
}

}  // namespace

std::optional<ByHand> by_hand(const SourcePtr& volume, const FileSystemOptions& options) {
  const auto figure = [&](const char* key) {
    const auto given = options.geometry.find(key);
    return given == options.geometry.end() ? std::uint64_t{0} : given->second;
  };
  const std::uint64_t size = volume->size();
  const std::uint64_t bits = figure("bits"), cluster = figure("cluster"), data = figure("data");
  const std::uint64_t table = figure("table"), table_bytes = figure("table_bytes");
  const std::uint64_t root = figure("root"), root_bytes = figure("root_bytes");
  const std::uint64_t root_cluster = figure("root_cluster");
  const bool can_be = (bits == 12 || bits == 16 || bits == 32) && is_power_of_two(cluster) &&
                      cluster >= kSector && cluster <= kMaxCluster && data < size &&
                      size - data >= cluster && table < size && table_bytes <= kMaxTableBytes &&
                      root < size && root_bytes <= kMaxRootBytes;
  if (!can_be) return std::nullopt;
  ByHand made;
  made.has_table = table_bytes > 0;
  Geometry& g = made.geometry;
  g.width = static_cast<Width>(bits);
  g.sector_bytes = kSector;
  g.cluster_bytes = static_cast<std::uint32_t>(cluster);
  g.data_offset = data;
  g.volume_bytes = size;
  g.table_count = 1;
  std::uint64_t clusters = std::min((size - data) / cluster, most_clusters(g.width));
  if (made.has_table) clusters = std::min(clusters, table_bytes * 8 / bits - 2);
  g.cluster_count = static_cast<std::uint32_t>(clusters);
  // Behind the volume's end: what of root folder and table is lost.
  std::vector<Piece> pieces{{ExtentKind::direct, size, volume, 0}};
  std::uint64_t end = size;
  const auto add = [&](Piece piece) {
    const std::uint64_t at = end;
    end += piece.length;
    pieces.push_back(std::move(piece));
    return at;
  };
  if (size % kSector != 0) add({ExtentKind::zero, kSector - size % kSector, nullptr, 0});
  g.root_offset = root;
  g.root_bytes = root_bytes;
  const bool in_data = bits == 32 && root_cluster >= 2 && root_cluster - 2 < clusters;
  const bool has_more = std::any_of(options.table_pieces.begin(), options.table_pieces.end(),
                                    [](const TablePiece& folder) { return folder.length > 0; });
  if (in_data && !has_more) {
    g.root_cluster = static_cast<std::uint32_t>(std::min<std::uint64_t>(root_cluster, 0x0FFFFFFF));
    g.root_bytes = 0;
  } else if (root_bytes == 0) {
    Bytes first(static_cast<std::size_t>(in_data ? cluster : 0));
    first.resize(volume->read(in_data ? data + (root_cluster - 2) * cluster : 0, first).length);
    Bytes slots = root_of(std::move(first), options.table_pieces, *volume);
    g.root_bytes = slots.size();
    const std::uint64_t length = slots.size();
    g.root_offset = add({ExtentKind::direct, length, make_memory_source(std::move(slots)), 0});
  }
  g.table_offset = table;
  g.table_bytes = table_bytes;
  if (!made.has_table) {
    g.table_bytes = divide_up((clusters + 2) * bits, 8);
    g.table_offset = add({ExtentKind::zero, g.table_bytes, nullptr, 0});
  }
  for (const TablePiece& folder : options.table_pieces)
    if (!made.has_table && folder.table_offset >= 2 && folder.table_offset - 2 < clusters)
      made.folders.push_back(static_cast<std::uint32_t>(folder.table_offset));
  if (!made.has_table && g.root_bytes == 0) made.folders.push_back(g.root_cluster);
  made.volume = make_joined(std::move(pieces));
  return made;
}

}  // namespace lantern::fat
