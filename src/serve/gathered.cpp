#include "serve/gathered.h"

#include <string>
#include <unordered_set>
#include <utility>

#include "catalog/catalog.h"
#include "catalog/entries.h"

namespace lantern {
namespace {

std::string key_of(const std::vector<std::string>& path, std::size_t length) {
  std::string key;
  for (std::size_t i = 0; i < length; ++i) key += path[i] + '\0';
  return key;
}

}  // namespace

std::shared_ptr<const FileSystem> gather(const std::shared_ptr<const FileSystem>& files,
                                         const std::function<void(const EntryVisitor&)>& walk) {
  // No name: SQLite's own temporary file, which goes with the connection.
  const std::shared_ptr<Catalog> catalog = Catalog::create("", {});
  CatalogVolume volume;
  volume.facts = files->facts();
  catalog->begin();
  catalog->add_volume(volume);
  EntryWriter writer(*catalog, volume.key);
  std::unordered_set<std::string> folders;
  walk([&](const Entry& entry) {
    for (std::size_t i = 1; i < entry.path.size(); ++i) {
      if (!folders.insert(key_of(entry.path, i)).second) continue;
      Entry folder;
      folder.kind = EntryKind::folder;
      folder.path.assign(entry.path.begin(), entry.path.begin() + static_cast<std::ptrdiff_t>(i));
      writer.add(folder, {});
    }
    // A folder may have been made for what it holds.
    if (entry.kind != EntryKind::folder ||
        folders.insert(key_of(entry.path, entry.path.size())).second)
      writer.add(entry, {});
    return WalkStep::go_on;
  });
  catalog->index_entries();
  catalog->commit();
  return open_catalog_volume(catalog, volume, [files] { return files; });
}

}  // namespace lantern
