// RangeSet: ranges that were claimed, and which of them more than once. Those that touch are one.
//
// Thread-safety: once settled it may be read from any thread.
#pragma once

#include <functional>
#include <vector>

#include "lantern/range.h"

namespace lantern {

class RangeSet {
 public:
  void add(Range range);
  // Before asking; afterwards more may be added, and it be settled again.
  void settle();

  // Visits `range` part by part, in order: claimed or not.
  using Visitor = std::function<void(Range part, bool claimed)>;
  void parts(Range range, const Visitor& visit) const { parts_of(once_, range, visit); }
  // The same, for what was claimed more than once.
  void parts_claimed_twice(Range range, const Visitor& visit) const {
    parts_of(twice_, range, visit);
  }
  bool meets(Range range) const { return meets(once_, range); }
  bool meets_twice(Range range) const { return meets(twice_, range); }

 private:
  static void parts_of(const std::vector<Range>& ranges, Range range, const Visitor& visit);
  static bool meets(const std::vector<Range>& ranges, Range range);

  // Sorted and disjoint up to `settled_`; what was added since is behind it.
  std::vector<Range> once_;
  std::size_t settled_ = 0;
  std::vector<Range> twice_;
};

}  // namespace lantern
