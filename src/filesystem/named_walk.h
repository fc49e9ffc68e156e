// A file system that keeps its names in order, and need not be walked for one of them.
//
// Thread-safety: as the FileSystem's.
#pragma once

#include <string>

#include "lantern/file_system.h"

namespace lantern {

class NamedWalk {
 public:
  NamedWalk() = default;
  NamedWalk(const NamedWalk&) = delete;
  NamedWalk& operator=(const NamedWalk&) = delete;
  virtual ~NamedWalk() = default;
  // As FileSystem::walk, but leaves out names that do not fit this, in any case (of ASCII): '*'
  // stands for anything.
  virtual void walk_named(const std::string& pattern, const WalkOptions& options,
                          const EntryVisitor& visit) const = 0;
};

}  // namespace lantern
