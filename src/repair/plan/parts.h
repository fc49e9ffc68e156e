// What a plan is put together from: parts of structures, and fixes that are made of them.
//
// Thread-safety: values.
#pragma once

#include <algorithm>
#include <cstddef>
#include <string>
#include <vector>

#include "lantern/repair.h"
#include "repair/plan/state.h"

namespace lantern::repair {

// Steps that put right one part of a structure.
struct Part {
  std::string name;
  std::vector<RepairStep> steps;
  Certainty certainty() const {
    Certainty least = Certainty::certain;
    for (const RepairStep& step : steps) least = std::max(least, step.certainty);
    return least;
  }
};

struct Fix {
  std::vector<Part> parts;
  StateChange gain;
  std::string words;
  bool restores_copy = false;             // and gains nothing else
  std::vector<std::size_t> needs;         // places in the list of fixes
  std::vector<std::size_t> alternatives;  // as well
};

}  // namespace lantern::repair
