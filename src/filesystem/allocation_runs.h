// Joins what a file system says of its parts, one after the other, into runs in use and runs free.
#pragma once

#include <algorithm>
#include <utility>

#include "lantern/file_system.h"

namespace lantern {

// `part_at(at)` gives the end of the part that holds byte `at`, and whether it is in use.
template <typename PartAt>
void join_allocation(Range whole, PartAt part_at, const FileSystem::AllocationVisitor& visit) {
  Range run{whole.offset, 0};
  bool used = true;
  while (run.end() < whole.end()) {
    const auto [end, now] = part_at(run.end());
    const std::uint64_t length = std::min(end, whole.end()) - run.end();
    if (now != used && !run.empty()) {
      if (!visit(run, used)) return;
      run = {run.end(), 0};
    }
    used = now;
    run.length += length;
  }
  if (!run.empty()) visit(run, used);
}

}  // namespace lantern
