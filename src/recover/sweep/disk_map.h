// A drawing of a range of a disk that fills while it is swept (SweepState::map).
//
// Thread-safety: one thread.
#pragma once

#include <array>
#include <string>
#include <vector>

#include "lantern/range.h"
#include "lantern/sweep.h"

namespace lantern {

class DiskMap {
 public:
  enum class Kind { zero, data, packed, unreadable };
  static constexpr std::size_t kKinds = 4;

  explicit DiskMap(Range range);
  // A stretch of the disk.
  void add(Range part, Kind kind);
  std::uint64_t unreadable_bytes() const { return unreadable_; }
  // What lies before this byte was swept.
  std::string text(std::uint64_t swept_to) const;

 private:
  Range cell(std::size_t index) const;

  Range range_;
  std::vector<std::array<std::uint64_t, kKinds>> cells_;  // bytes of each kind
  std::uint64_t unreadable_ = 0;
};

}  // namespace lantern
