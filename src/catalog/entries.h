// Entries of a volume in a catalog: written as a walk gives them, read back in any order of a walk.
//
// Thread-safety: as the Catalog's.
#pragma once

#include <functional>

#include "catalog/catalog.h"

namespace lantern {

class EntryWriter {
 public:
  EntryWriter(Catalog& catalog, std::uint64_t volume);
  // `extents`: where its content lies on the disk.
  struct Extent {
    std::uint64_t offset = 0;       // of the content, bytes
    std::uint64_t disk_offset = 0;  // bytes
    std::uint64_t length = 0;
  };
  void add(const Entry& entry, const std::vector<Extent>& extents);

 private:
  std::uint64_t volume_;
  std::uint64_t next_place_ = 0;
  Statement add_entry_, add_extent_;
};

// A volume of a catalog as a file system: its folders come from the catalog, contents from the
// disk. `open`: gives the file system on the disk, or throws what keeps it from that; called when a
// content is asked for.
std::shared_ptr<const FileSystem> open_catalog_volume(
    std::shared_ptr<const Catalog> catalog, const CatalogVolume& volume,
    std::function<std::shared_ptr<const FileSystem>()> open);

}  // namespace lantern
