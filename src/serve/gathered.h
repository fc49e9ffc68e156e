// What was deleted, by the folders it was in: read once, and kept in a temporary file of the
// system, for there may be millions.
//
// Thread-safety: may be called from any thread.
#pragma once

#include <functional>
#include <memory>

#include "lantern/file_system.h"

namespace lantern {

// A file system that lists what `walk` visits, and every folder on the way to it, also one that
// was not visited itself (with no id); contents come from `files`. Throws Error{cannot_write},
// and what `walk` throws.
std::shared_ptr<const FileSystem> gather(const std::shared_ptr<const FileSystem>& files,
                                         const std::function<void(const EntryVisitor&)>& walk);

}  // namespace lantern
