#include "filesystem/exfat/clusters.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"

namespace lantern::exfat {
namespace {

constexpr std::uint64_t kFew = 64;  // clusters that are looked back over one by one
constexpr std::uint64_t kMaxSkipped =
    65536;  // clusters in use, between a chain and its guessed end

bool met(const std::vector<ClusterRun>& runs, std::uint32_t cluster) {
  return std::any_of(runs.begin(), runs.end(), [&](const ClusterRun& run) {
    return cluster >= run.first && cluster - run.first < run.count;
  });
}

}  // namespace

std::vector<ClusterRun> Volume::root_runs() const {
  if (root_clusters > 0) return one_run(geometry, geometry.root_cluster, root_clusters);
  return chain(geometry.root_cluster, kMaxFolderBytes / geometry.cluster_bytes + 1);
}

bool Volume::in_use(std::uint32_t cluster) const {
  if (!geometry.valid_cluster(cluster) || !bitmap) return true;
  Bytes byte(1);
  const ReadResult got = bitmap->read((cluster - 2) / 8, byte);
  if (got.length == 0 || !got.unreadable.empty()) return true;
  return (u8(byte, 0) >> ((cluster - 2) % 8) & 1) != 0;
}

std::vector<ClusterRun> Volume::chain(std::uint32_t first, std::uint64_t most) const {
  std::vector<ClusterRun> runs;
  if (!has_table) return one_run(geometry, first, most);
  std::vector<bool> seen;
  std::uint64_t count = 0;
  for (std::uint32_t at = first; geometry.valid_cluster(at) && count < most; ++count) {
    if (count % 4096 == 0) context.check_cancelled();
    if (seen.empty() && count > kFew) {
      seen.resize(std::size_t{geometry.cluster_count} + 2);
      for (const ClusterRun& run : runs) std::fill_n(seen.begin() + run.first, run.count, true);
    }
    if (seen.empty() ? met(runs, at) : seen[at]) break;
    if (!seen.empty()) seen[at] = true;
    if (!runs.empty() && runs.back().first + runs.back().count == at)
      ++runs.back().count;
    else
      runs.push_back({at, 1});
    Bytes entry(4);
    const ReadResult got = cached->read(geometry.table_offset + std::uint64_t{at} * 4, entry);
    if (got.length < entry.size() || !got.unreadable.empty()) break;
    at = le32(entry, 0);
  }
  return runs;
}

std::vector<ClusterRun> one_run(const Geometry& geometry, std::uint32_t first,
                                std::uint64_t count) {
  if (!geometry.valid_cluster(first) || count == 0) return {};
  return {{first, std::min<std::uint64_t>(count, geometry.cluster_count - (first - 2))}};
}

std::vector<ClusterRun> Volume::clusters_of(const EntrySet& set) const {
  const std::uint64_t needed = divide_up(set.size_bytes, geometry.cluster_bytes);
  if (set.one_run) return one_run(geometry, set.first_cluster, needed);
  return chain(set.first_cluster, std::min<std::uint64_t>(needed, geometry.cluster_count));
}

std::vector<ClusterRun> Volume::free_after(const std::vector<ClusterRun>& runs,
                                           std::uint64_t most) const {
  std::vector<ClusterRun> found;
  if (runs.empty() || !bitmap) return found;
  const std::uint64_t from = runs.back().first + runs.back().count;
  const std::uint64_t end =
      std::min(std::uint64_t{geometry.cluster_count} + 2, from + most + kMaxSkipped);
  for (std::uint64_t at = from; at < end && most > 0; ++at) {
    const auto cluster = static_cast<std::uint32_t>(at);
    if (in_use(cluster)) continue;
    if (!found.empty() && found.back().first + found.back().count == at)
      ++found.back().count;
    else
      found.push_back({cluster, 1});
    --most;
  }
  return found;
}

void Volume::cut_to_folder(std::vector<ClusterRun>& runs) const {
  if (runs.empty()) return;
  const std::uint64_t count = runs.front().count;
  runs.resize(1);
  runs.front().count = 1;
  const auto read = [&](std::uint64_t number) {
    Bytes cluster(static_cast<std::size_t>(geometry.cluster_bytes));
    const auto own = static_cast<std::uint32_t>(number);
    cluster.resize(cached->read(geometry.cluster_offset(own), cluster).length);
    return cluster;
  };
  Bytes last = read(runs.front().first);
  for (std::uint64_t& taken = runs.front().count; taken < count; ++taken) {
    context.check_cancelled();
    Bytes next = read(runs.front().first + taken);
    if (!goes_on(last, next)) return;
    last = std::move(next);
  }
}

SourcePtr Volume::bytes_of(const std::vector<ClusterRun>& runs, const SourcePtr& from) const {
  std::vector<Piece> pieces;
  pieces.reserve(runs.size());
  for (const ClusterRun& run : runs)
    pieces.push_back({ExtentKind::direct, run.count * geometry.cluster_bytes, from,
                      geometry.cluster_offset(run.first)});
  return make_joined(std::move(pieces));
}

}  // namespace lantern::exfat
