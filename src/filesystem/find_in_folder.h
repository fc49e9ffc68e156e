// A path looked for where folders are lists without an index: its folder is walked.
//
// Thread-safety: as the walk.
#pragma once

#include <algorithm>
#include <functional>
#include <string>
#include <vector>

#include "lantern/file_system.h"

namespace lantern {

// Entries of this path, active first. `walk`: of the file system, which follows folders by the same
// rule as `same` compares names.
template <typename Walk, typename SameName>
std::vector<Entry> find_in_folder(const std::vector<std::string>& path, const Walk& walk,
                                  const SameName& same) {
  std::vector<Entry> found;
  if (path.empty()) return found;
  WalkOptions options;
  options.deleted = true;
  options.max_depth = 1;
  options.under.assign(path.begin(), path.end() - 1);
  walk(options, [&](const Entry& entry) {
    if (same(entry.path.back(), path.back())) found.push_back(entry);
    return WalkStep::go_on;
  });
  std::stable_partition(found.begin(), found.end(),
                        [](const Entry& e) { return e.state == EntryState::active; });
  return found;
}

}  // namespace lantern
