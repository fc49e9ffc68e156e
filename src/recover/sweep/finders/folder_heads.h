// Folders that a pass met, by the place of their first bytes, and their rows in a catalog.
//
// Thread-safety: one thread.
#pragma once

#include <string_view>

#include "recover/sweep/finders/catalog_finder.h"
#include "recover/sweep/finders/kept.h"

namespace lantern {

struct FolderHead {
  std::uint64_t offset = 0;  // of the disk, bytes
  std::uint32_t number = 0;  // that the file system knows it by
  std::uint32_t parent = 0;  // of the folder it is in
};

// `format`: its name in the registry. `swept_to`: those before this byte.
void load_heads(Database& database, std::string_view format, std::uint64_t swept_to,
                Kept<FolderHead>& heads);
void save_heads(Database& database, std::string_view format, Kept<FolderHead>& heads);

}  // namespace lantern
