// Which clusters belong together and which are in use: the FAT and the allocation bitmap.
//   FAT: 4 bytes a cluster: 2 and on the next one, FFFFFFF7 bad, FFFFFFFF the last
//   bitmap: a bit a cluster from 2 on, lowest first
// Source: exFAT file system specification, 4.1 and 7.1.
//
// Thread-safety: any thread.
#pragma once

#include <vector>

#include "filesystem/exfat/boot.h"
#include "filesystem/exfat/entry_set.h"
#include "lantern/sources.h"

namespace lantern::exfat {

constexpr std::uint64_t kMaxFolderBytes = 256u << 20;  // as the specification has it

struct ClusterRun {
  std::uint32_t first = 0;
  std::uint64_t count = 0;
};

struct Volume {
  SourcePtr raw;     // for contents
  SourcePtr cached;  // for structures
  Geometry geometry;
  SourcePtr bitmap;
  Context context;
  bool has_table = true;            // false: no FAT is left
  std::uint64_t root_clusters = 0;  // not 0: the root folder is one run of so many

  // The clusters of the root folder.
  std::vector<ClusterRun> root_runs() const;
  // What cannot be known counts as in use.
  bool in_use(std::uint32_t cluster) const;
  // At most `most` clusters, in one run where there is no FAT; a chain that leads nowhere or back
  // to itself ends before.
  std::vector<ClusterRun> chain(std::uint32_t first, std::uint64_t most) const;
  // The clusters of a set: in one run, or as the FAT has them. They may be fewer than it needs.
  std::vector<ClusterRun> clusters_of(const EntrySet& set) const;
  // Of a deleted file whose chain ends too soon: the next clusters that are not in use, as many as
  // it still needs. A guess.
  std::vector<ClusterRun> free_after(const std::vector<ClusterRun>& runs, std::uint64_t most) const;
  // Of a folder that no FAT speaks of: the clusters of the first run that go on from one another.
  void cut_to_folder(std::vector<ClusterRun>& runs) const;
  // The bytes of runs laid end to end.
  SourcePtr bytes_of(const std::vector<ClusterRun>& runs, const SourcePtr& from) const;
};

// Cuts of a count of clusters to what the volume has.
std::vector<ClusterRun> one_run(const Geometry& geometry, std::uint32_t first, std::uint64_t count);

}  // namespace lantern::exfat
