#include "base/range_set.h"

#include <algorithm>

namespace lantern {
namespace {

// So that a set of millions that mostly touch stays small while it grows.
constexpr std::size_t kUnsettled = 1u << 16;

bool begins_before(const Range& a, const Range& b) {
  return a.offset < b.offset;
}

// Joins sorted ranges where they touch; what they share goes to `shared`.
void join(std::vector<Range>& ranges, std::vector<Range>* shared) {
  std::size_t kept = 0;
  for (const Range range : ranges) {
    if (kept > 0 && range.offset <= ranges[kept - 1].end()) {
      Range& last = ranges[kept - 1];
      const Range both = intersect(last, range);
      if (shared != nullptr && !both.empty()) shared->push_back(both);
      last.length = std::max(last.end(), range.end()) - last.offset;
    } else {
      ranges[kept++] = range;
    }
  }
  ranges.resize(kept);
}

// The first range that ends behind `at`.
std::vector<Range>::const_iterator first_behind(const std::vector<Range>& ranges,
                                                std::uint64_t at) {
  return std::partition_point(ranges.begin(), ranges.end(),
                              [&](const Range& range) { return range.end() <= at; });
}

}  // namespace

void RangeSet::add(Range range) {
  if (range.empty()) return;
  once_.push_back(range);
  if (once_.size() - settled_ > kUnsettled + settled_) settle();
}

void RangeSet::settle() {
  const auto fresh = once_.begin() + static_cast<std::ptrdiff_t>(settled_);
  std::sort(fresh, once_.end(), begins_before);
  std::inplace_merge(once_.begin(), fresh, once_.end(), begins_before);
  join(once_, &twice_);
  settled_ = once_.size();
  std::sort(twice_.begin(), twice_.end(), begins_before);
  join(twice_, nullptr);
}

void RangeSet::parts_of(const std::vector<Range>& ranges, Range range, const Visitor& visit) {
  std::uint64_t at = range.offset;
  for (auto next = first_behind(ranges, at); at < range.end(); ++next) {
    const std::uint64_t begin =
        next == ranges.end() ? range.end() : std::clamp(next->offset, at, range.end());
    if (begin > at) visit({at, begin - at}, false);
    if (next == ranges.end()) break;
    at = std::min(next->end(), range.end());
    if (at > begin) visit({begin, at - begin}, true);
  }
}

bool RangeSet::meets(const std::vector<Range>& ranges, Range range) {
  const auto next = first_behind(ranges, range.offset);
  return next != ranges.end() && next->offset < range.end();
}

}  // namespace lantern
