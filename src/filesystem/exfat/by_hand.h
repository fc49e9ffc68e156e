// An exFAT volume whose head is lost, by figures that are given instead: bytes of a "cluster" and
// "data", where cluster 2 begins, have to be there; where they are known the FAT, "table" and
// "table_bytes", and the root folder, "root_cluster" and, where there is no FAT, "root_bytes".
// Without a FAT every content is taken to lie in one run. Folders that are given are in the
// root folder, too, or are all of it, each by the number of its cluster.
//
// Thread-safety: a pure function of what it reads.
#pragma once

#include <optional>

#include "filesystem/exfat/clusters.h"
#include "lantern/file_system.h"

namespace lantern::exfat {

// Without its bitmap. Empty: the figures cannot be. FileSystemOptions::table_pieces: folders of the
// root, by number and place, with the bytes that each has.
std::optional<Volume> by_hand(const SourcePtr& volume, const FileSystemOptions& options,
                              const Context& context);

}  // namespace lantern::exfat
