// A tangle of deleted files solved: each of its files gets the places that make the most sense.
//
// Thread-safety: a pure function of what it reads.
#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/context.h"
#include "lantern/file_system.h"

namespace lantern {

struct Untangled {
  SourcePtr bytes;               // empty: nothing better than what its entry's own rule gives
  std::vector<Range> lost;       // of the content: what another file holds by now
  std::uint64_t differs_at = 0;  // of the content: first byte that is not where that rule has it
  std::string evidence;
};

// By the ids of its members. `budget`: bytes that may be read to try ways out, less those that
// were. Throws Error{stopped}.
std::map<std::string, Untangled> solve_tangle(const Tangle& tangle, std::uint64_t& budget,
                                              const Context& context);

}  // namespace lantern
