// A first pass over a volume: which of its files may be configurations of machines, and which are
// disk images, by their own bytes.
//
// Thread-safety: any thread.
#pragma once

#include <vector>

#include "lantern/nest/session.h"

namespace lantern {

struct MachineCandidates {
  std::vector<Entry> configs;
  std::vector<Entry> images;
};

// Of what the target names. `deleted`: deleted files too. Findings: more than are looked at.
MachineCandidates find_candidates(const Target& target, bool deleted, const Context& context);

}  // namespace lantern
