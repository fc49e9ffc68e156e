// How well a boot sector of FAT fits what lies behind it: the tables, the root folder, the folders
// and files in that. Every figure of it moves at least one of them, so that of two that could be,
// the right one fits better.
//
// Thread-safety: as the source's.
#pragma once

#include "filesystem/fat/boot_sector.h"

namespace lantern::fat {

struct Fit {
  unsigned points = 0;   // what speaks for it
  bool doubted = false;  // something speaks against it
};
Fit fit(const Geometry& geometry, const ByteSource& volume);

// Whether a table is as long as the clusters ask for, give or take what makers round to.
bool length_fits(const Geometry& geometry);

// A cluster's entry in a table, of which `table` holds the start.
std::uint32_t table_entry(ByteView table, Width width, std::size_t cluster);

// Folders in the root that begin, where the figures put them, with an entry that names itself, and
// those that do not.
struct RootFolders {
  std::size_t fitting = 0, others = 0;
};
RootFolders root_folders(const Geometry& geometry, const ByteSource& volume);

}  // namespace lantern::fat
