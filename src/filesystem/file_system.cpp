#include "lantern/file_system.h"

#include "filesystem/fat/fat.h"

namespace lantern {

std::string_view to_string(EntryKind kind) {
  return kind == EntryKind::file ? "file" : "folder";
}

std::string_view to_string(EntryState state) {
  switch (state) {
    case EntryState::active:
      return "active";
    case EntryState::deleted:
      return "deleted";
    case EntryState::orphan:
      return "orphan";
    case EntryState::found:
      return "found";
  }
  return "active";
}

std::shared_ptr<const FileSystem> open_file_system(const SourcePtr& volume,
                                                   const FileSystemOptions& options,
                                                   const Context& context) {
  return open_fat(volume, options, context);
}

}  // namespace lantern
