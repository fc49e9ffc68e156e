// Clusters that several deleted files claim, and who of them had each last. A file that got a
// cluster after another was deleted was changed then, later than the other ever was.
//
// Thread-safety: pure functions.
#pragma once

#include <cstdint>
#include <vector>

#include "lantern/range.h"

namespace lantern::ntfs {

struct DeletedClaim {
  Range clusters;
  std::uint32_t record = 0;
  std::uint64_t changed = 0;  // when its record was, as stored; 0: not known
};

struct LastOwner {
  Range clusters;
  std::uint32_t record = 0;
};

// Sorted and disjoint; without clusters of which it cannot be told.
std::vector<LastOwner> last_owners(const std::vector<DeletedClaim>& claims);

}  // namespace lantern::ntfs
