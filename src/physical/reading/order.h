// The order in which a failing disk is read, so that the reads it still has give the most:
//   1. forward in large pieces; where there is trouble it is left at once, farther each time
//   2. into the middle of the largest gap, and outwards from there until there is trouble
//   3. what was left: from the border of what can be read; else into the middle of the largest
//   4. what failed by itself, again, forward and backward in turn
//
// Thread-safety: pure functions.
#pragma once

#include <functional>

#include "lantern/context.h"
#include "source/reading/read_map.h"

namespace lantern {

struct Tried {
  std::uint64_t good = 0;  // bytes from the start of the range that were read
  bool slow = false;       // they took long
  bool no_answer = false;  // nothing came: which of the sectors it is cannot be told
};

struct ReadOrder {
  std::uint64_t piece_bytes = 1u << 20;  // read at once where all is well
  std::uint64_t probe_bytes = 64u << 10;
  std::uint64_t sector_bytes = 512;  // what fails as one; the other figures are multiples of it
  std::uint64_t logical_sector_bytes = 512;
  unsigned rounds = 2;  // of what failed
};

// Reads what the map does not have, by `read`, until all of it was tried, and notes it there.
// `read` keeps the good bytes. Throws Error{stopped}, and what `read` throws.
void read_in_order(ReadMap& map, const ReadOrder& order, const std::function<Tried(Range)>& read,
                   const Context& context);

}  // namespace lantern
