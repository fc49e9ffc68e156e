// Which of the places of a tangle each of its files may have had: ways in which files that grow at
// the same time come to lie among each other.
//
// Thread-safety: pure functions of what they are given.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <vector>

#include "lantern/file_system.h"

namespace lantern {

constexpr std::uint32_t kLostPlace = 0xFFFFFFFF;
// Of one file: numbers of places in the order of its content; kLostPlace: another file's by now.
using Places = std::vector<std::uint32_t>;

// What is to be placed yet, and where.
struct OpenTangle {
  const Tangle& tangle;
  std::vector<std::size_t> members;  // by where they begin
  std::vector<bool> taken;           // of the places: known to be another file's
  std::size_t wanted(std::size_t member) const {
    return static_cast<std::size_t>((tangle.members[member].size_bytes + tangle.place_bytes - 1) /
                                    tangle.place_bytes);
  }
};

// Each as one of `open.members`, in their order. A file may come out with fewer places than it
// wants.
using Placement = std::vector<Places>;

// Each in one run: the later ones were written over the earlier, after those were deleted.
Placement in_one_run(const OpenTangle& open);
// One that begins is written to its end, then the one before it goes on. `usable`: places that may
// be taken besides first ones; empty: every one that is not taken.
Placement one_within_another(const OpenTangle& open, const std::vector<bool>& usable = {});
// In turn, each so many places at a time as lie between its first and the first of the next; the
// last one `last_turn`.
Placement in_turn(const OpenTangle& open, std::size_t last_turn);

}  // namespace lantern
