#include "nest/opening/order_places.h"

#include <fmt/format.h>

#include <algorithm>
#include <optional>

namespace lantern {
namespace {

// Pieces without a place that lie one after the other in the file, between two that have one.
struct Gap {
  std::size_t from = 0, to = 0;  // slots
  std::optional<std::uint64_t> before, after;

  std::size_t count() const { return to - from; }
};

class Order {
 public:
  Order(const LoosePieces& loose, const Expectations& expected,
        const std::set<std::uint64_t>& in_use)
      : loose_(loose), expected_(expected), in_use_(in_use) {}

  std::vector<PlaceClaim> run() {
    Gap gap;
    for (std::size_t i = 0; i < loose_.slots.size(); ++i) {
      const auto& place = loose_.slots[i].place;
      if (!place) continue;
      gap.to = i;
      gap.after = place;
      fill(gap);
      gap = {i + 1, i + 1, place, std::nullopt};
    }
    gap.to = loose_.slots.size();
    fill(gap);
    return std::move(claims_);
  }

 private:
  void fill(const Gap& gap) {
    if (gap.count() == 0 || (!gap.before && !gap.after)) return;
    const std::uint64_t step = loose_.piece_bytes;
    if (gap.before && gap.after && *gap.after == *gap.before + (gap.count() + 1) * step) {
      std::vector<std::uint64_t> places;
      for (std::uint64_t at = *gap.before + step; at < *gap.after; at += step)
        if (expected_.is_open(at)) places.push_back(at);
      claim(gap, places, "it lies between two blocks that are as far apart on the disk", true);
      return;
    }
    if (fill_from_ends(gap)) return;
    const auto from = gap.before ? in_use_.upper_bound(*gap.before) : in_use_.begin();
    // What was written last may be followed by what lies before it.
    const bool back = gap.before && gap.after && *gap.after < *gap.before;
    const auto to = gap.after && !back ? in_use_.lower_bound(*gap.after) : in_use_.end();
    claim(gap, {from, to}, "files lie in just so many blocks of the disk there");
  }

  // What was written in one go goes on behind one that has its place, and ends before the other.
  bool fill_from_ends(const Gap& gap) {
    const std::uint64_t step = loose_.piece_bytes;
    std::vector<std::uint64_t> places, last;
    if (gap.before)
      for (std::uint64_t at = *gap.before + step;
           in_use_.contains(at) && places.size() <= gap.count(); at += step)
        places.push_back(at);
    if (gap.after)
      for (std::uint64_t at = *gap.after - step; in_use_.contains(at) && last.size() <= gap.count();
           at -= step)
        last.push_back(at);
    if (places.size() + last.size() != gap.count()) return false;
    places.insert(places.end(), last.rbegin(), last.rend());
    claim(gap, places, "files lie in just so many blocks behind and before its neighbours");
    return true;
  }

  // `sure`: both neighbours are evidence for it. Where files were written side by side, what is
  // told by one of them alone counts only of what was written in one go.
  void claim(const Gap& gap, const std::vector<std::uint64_t>& places, std::string_view why,
             bool sure = false) {
    constexpr double kHardlyBroken = 0.9, kMostly = 0.5;
    constexpr std::size_t kInOneGo = 8, kFew = 4;
    const double share = order_share(loose_);
    const std::size_t least =
        sure ? (share < kMostly ? kFew : 1) : (share < kHardlyBroken ? kInOneGo : 1);
    if (places.size() != gap.count() || gap.count() < least) return;
    constexpr double kAgainst = -6;
    for (std::size_t i = 0; i < places.size(); ++i)
      if (expected_.weigh(loose_.slots[gap.from + i].piece, places[i]) < kAgainst) return;
    for (std::size_t i = 0; i < places.size(); ++i)
      claims_.push_back({loose_.slots[gap.from + i].piece, places[i],
                         fmt::format("inferred from the order of the file, {} of {} neighbours "
                                     "follow each other on the disk: {}",
                                     loose_.in_order, loose_.neighbours, why),
                         true});
  }

  const LoosePieces& loose_;
  const Expectations& expected_;
  const std::set<std::uint64_t>& in_use_;
  std::vector<PlaceClaim> claims_;
};

}  // namespace

std::vector<PlaceClaim> places_by_order(const LoosePieces& loose, const Expectations& expected,
                                        const std::set<std::uint64_t>& in_use) {
  if (order_share(loose) == 0) return {};
  return Order(loose, expected, in_use).run();
}

}  // namespace lantern
