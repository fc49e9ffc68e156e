// $Bitmap: a bit a cluster, lowest first, set while it is in use.
// Source: the Linux kernel's documentation and headers of NTFS.
//
// Thread-safety: any thread.
#pragma once

#include <utility>

#include "filesystem/ntfs/volume.h"

namespace lantern::ntfs {

class ClusterBitmap {
 public:
  // Reports when it cannot be read; then every cluster counts as in use.
  explicit ClusterBitmap(const Volume& volume);

  // The end of the run of clusters from `cluster` on, up to `end`, that are alike, and whether they
  // are in use.
  std::pair<std::uint64_t, bool> alike(std::uint64_t cluster, std::uint64_t end) const;
  std::uint64_t clusters_in_use() const;
  std::uint64_t cluster_count() const { return cluster_count_; }  // those that are there

 private:
  SourcePtr bits_;  // may be empty
  std::uint64_t cluster_count_;
};

}  // namespace lantern::ntfs
