// An array from the members that were found of it: which of them are current, in which places, and
// what is missing.
//
// Thread-safety: may be called from any thread.
#pragma once

#include <string>
#include <vector>

#include "lantern/volume/spanning.h"
#include "volume/md/superblock.h"

namespace lantern::md {

struct Member {
  std::string address;
  SourcePtr bytes;
  Superblock super;
};

// All of one set, at least one. Figures that cannot be give a set that is unusable, with why.
SpannedSet assemble(const std::vector<Member>& members);

}  // namespace lantern::md
