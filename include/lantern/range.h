// Range: a run of bytes within one layer. A value; units are bytes.
#pragma once

#include <algorithm>
#include <cstdint>
#include <limits>

namespace lantern {

struct Range {
  std::uint64_t offset = 0;
  std::uint64_t length = 0;

  // First byte past the range; saturates, so hostile figures cannot wrap.
  std::uint64_t end() const {
    constexpr auto top = std::numeric_limits<std::uint64_t>::max();
    return length > top - offset ? top : offset + length;
  }
  bool empty() const { return length == 0; }
  friend bool operator==(const Range&, const Range&) = default;
};

// The part both have in common; empty when there is none.
inline Range intersect(const Range& a, const Range& b) {
  const std::uint64_t from = std::max(a.offset, b.offset);
  const std::uint64_t to = std::min(a.end(), b.end());
  return from < to ? Range{from, to - from} : Range{from, 0};
}

}  // namespace lantern
