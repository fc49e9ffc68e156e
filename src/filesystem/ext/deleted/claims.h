// Claims: which blocks of lost files are others' now. A block in use is lost to its owner, and so
// is one that held the file system's own structures since; of two lost files that claim a block the
// one that died later has it.
#pragma once

#include <vector>

#include "filesystem/ext/deleted/deleted_index.h"
#include "filesystem/ext/journal.h"

namespace lantern::ext {

struct Died {
  std::uint32_t first_seen = 0;  // sequences of the journal
  std::uint32_t sequence = 0;    // 0: not known
  bool owns_blocks = false;      // its blocks are still marked as in use, for itself
};

// Fills gone, doubtful and examined of each.
void judge_claims(const Volume& volume, const History& history, std::vector<Died> died,
                  std::vector<Lost>& lost);

}  // namespace lantern::ext
