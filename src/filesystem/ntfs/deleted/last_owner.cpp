#include "filesystem/ntfs/deleted/last_owner.h"

#include <algorithm>
#include <iterator>
#include <set>
#include <utility>

namespace lantern::ntfs {

std::vector<LastOwner> last_owners(const std::vector<DeletedClaim>& claims) {
  // Where claims begin and end, by cluster.
  struct Edge {
    std::uint64_t at;
    bool begins;
    const DeletedClaim* claim;
  };
  std::vector<Edge> edges;
  edges.reserve(claims.size() * 2);
  for (const DeletedClaim& claim : claims) {
    edges.push_back({claim.clusters.offset, true, &claim});
    edges.push_back({claim.clusters.end(), false, &claim});
  }
  std::sort(edges.begin(), edges.end(), [](const Edge& a, const Edge& b) { return a.at < b.at; });

  std::vector<LastOwner> owners;
  std::multiset<std::pair<std::uint64_t, std::uint32_t>> open;  // by when they were changed
  for (std::size_t i = 0; i < edges.size(); ++i) {
    const DeletedClaim& claim = *edges[i].claim;
    if (edges[i].begins)
      open.emplace(claim.changed, claim.record);
    else
      open.erase(open.find({claim.changed, claim.record}));
    const std::uint64_t end = i + 1 < edges.size() ? edges[i + 1].at : edges[i].at;
    if (end == edges[i].at || open.empty() || open.begin()->first == 0) continue;
    const auto last = std::prev(open.end());
    if (open.size() > 1 && std::prev(last)->first == last->first) continue;
    const Range clusters{edges[i].at, end - edges[i].at};
    if (!owners.empty() && owners.back().record == last->second &&
        owners.back().clusters.end() == clusters.offset)
      owners.back().clusters.length += clusters.length;
    else
      owners.push_back({clusters, last->second});
  }
  return owners;
}

}  // namespace lantern::ntfs
