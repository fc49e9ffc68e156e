// A FAT volume whose head is lost, by figures that are given instead: "bits" of a table's entry
// (12, 16, 32), bytes of a "cluster", and "data", where cluster 2 begins, have to be there; where
// they are known "table" and "table_bytes", and the root folder: "root" and "root_bytes", or
// "root_cluster". Without a table every cluster counts as free, and contents are placed by rule.
// Folders that are given with a length are in the root folder, behind what its first cluster tells,
// each by the number of its own.
//
// Thread-safety: a pure function of what it reads.
#pragma once

#include <cstdint>
#include <optional>
#include <vector>

#include "filesystem/fat/boot_sector.h"
#include "lantern/file_system.h"

namespace lantern::fat {

struct ByHand {
  Geometry geometry;
  SourcePtr volume;  // what was made up for it lies behind its end
  bool has_table = false;
  std::vector<std::uint32_t> folders;  // their first clusters
};

// Empty: the figures cannot be. FileSystemOptions::table_pieces: the folders, by number and place;
// those with a length are in the root folder.
std::optional<ByHand> by_hand(const SourcePtr& volume, const FileSystemOptions& options);

}  // namespace lantern::fat
