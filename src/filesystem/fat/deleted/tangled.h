// Deleted files that lie among each other. A file takes the next free clusters while it grows, and
// so does every other that grows at the time: from the first cluster of one on, free clusters are
// counted until all files that begin among them have as many as their sizes ask for.
//
// Thread-safety: pure functions of what they are given.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <vector>

#include "filesystem/fat/table.h"
#include "lantern/timestamp.h"

namespace lantern::fat {

// A deleted file whose first cluster is known and free.
struct Start {
  std::uint64_t slot_offset = 0;
  std::uint32_t first = 0;
  std::uint32_t size_bytes = 0;
  std::uint64_t clusters = 0;  // that its size asks for, at least 1
  std::optional<Timestamp> created;
  std::optional<Timestamp> modified;
};

struct Tangled {
  std::vector<Start> members;        // two at least, by their first clusters
  std::vector<ClusterRun> clusters;  // ascending: what they take together
};

// `available`: whether a cluster may be a deleted file's; asked for each cluster once at most. Of
// two that begin in one cluster only the later belongs to a group. Larger groups than can be solved
// are left out.
std::vector<Tangled> tangled(std::vector<Start> starts, std::uint32_t end_cluster,
                             const std::function<bool(std::uint32_t)>& available);

}  // namespace lantern::fat
