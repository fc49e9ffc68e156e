// Volume groups from the physical volumes that were found.
//
// Thread-safety: may be called from any thread.
#pragma once

#include <string>
#include <vector>

#include "lantern/context.h"
#include "lantern/volume/spanning.h"

namespace lantern::lvm {

struct Member {
  std::string address;
  SourcePtr bytes;
};

// Every group that one of them describes; physical volumes that no group names are in none.
std::vector<SpannedSet> assemble(const std::vector<Member>& members, const Context& context);

}  // namespace lantern::lvm
