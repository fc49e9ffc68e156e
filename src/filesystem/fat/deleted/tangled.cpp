#include "filesystem/fat/deleted/tangled.h"

#include <algorithm>

namespace lantern::fat {
namespace {

constexpr std::size_t kMaxMembers = 64;
constexpr std::uint64_t kMaxClusters = 1u << 18;
constexpr std::uint64_t kMaxClustersInAll = 1u << 22;

std::int64_t seconds(const std::optional<Timestamp>& time) {
  return time ? time->seconds : 0;
}

bool begins_before(const Start& a, const Start& b) {
  if (a.first != b.first) return a.first < b.first;
  // The later of two first: it is the one that is kept.
  return std::max(seconds(a.created), seconds(a.modified)) >
         std::max(seconds(b.created), seconds(b.modified));
}

void add(std::vector<ClusterRun>& runs, std::uint32_t cluster) {
  if (!runs.empty() && runs.back().first + runs.back().count == cluster)
    ++runs.back().count;
  else
    runs.push_back({cluster, 1});
}

}  // namespace

std::vector<Tangled> tangled(std::vector<Start> starts, std::uint32_t end_cluster,
                             const std::function<bool(std::uint32_t)>& available) {
  std::sort(starts.begin(), starts.end(), begins_before);
  starts.erase(std::unique(starts.begin(), starts.end(),
                           [](const Start& a, const Start& b) { return a.first == b.first; }),
               starts.end());
  std::vector<Tangled> groups;
  std::uint64_t room = kMaxClustersInAll;
  for (std::size_t next = 0; next < starts.size();) {
    Tangled group;
    std::uint64_t wanted = 0, taken = 0;
    bool solvable = true;
    std::uint32_t cluster = starts[next].first;
    do {
      if (next < starts.size() && starts[next].first == cluster) {
        wanted += starts[next].clusters;
        solvable = solvable && group.members.size() < kMaxMembers && wanted <= kMaxClusters;
        if (solvable) group.members.push_back(starts[next]);
        ++next;
      }
      if (available(cluster)) {
        ++taken;
        if (solvable) add(group.clusters, cluster);
      }
      ++cluster;
    } while (taken < wanted && cluster < end_cluster);
    if (!solvable || group.members.size() < 2 || taken > room) continue;
    room -= taken;
    groups.push_back(std::move(group));
  }
  return groups;
}

}  // namespace lantern::fat
