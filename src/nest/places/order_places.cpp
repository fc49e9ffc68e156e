#include "nest/places/order_places.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <numeric>
#include <optional>

namespace lantern {
namespace {

// Where nearly all neighbours follow each other, files were written one after the other.
constexpr double kOneAfterTheOther = 0.9, kHalfInOrder = 0.5;
// Systems write so much of a file before they turn to another, or most of it.
constexpr std::uint64_t kInOneGo = 4ull << 20;  // bytes
constexpr std::size_t kSeveral = 8, kFew = 4;
constexpr std::size_t kMaxBetween = 4096;           // blocks of other files between two of one
constexpr double kContradicts = -6, kSupports = 3;  // bits
// Where a row of blocks ends, one of another file may lie.
constexpr std::size_t kUnsure = 2;

// Pieces without a place that lie one after the other in the file, between two that have one.
struct Gap {
  std::size_t from = 0, to = 0;  // slots
  std::optional<std::uint64_t> before, after;

  std::size_t count() const { return to - from; }
};

class Order {
 public:
  Order(const LoosePieces& loose, const Expectations& expected, const FileBlocks& files)
      : loose_(loose), expected_(expected), files_(files), share_(order_share(loose)) {}

  std::vector<PlaceClaim> run() {
    if (share_ == 0) return {};
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
    fill_streams();
    return std::move(claims_);
  }

 private:
  void fill(const Gap& gap) {
    if (gap.count() == 0 || (!gap.before && !gap.after)) return;
    const std::uint64_t step = loose_.piece_bytes;
    std::vector<std::size_t> slots(gap.count());
    std::iota(slots.begin(), slots.end(), gap.from);
    if (gap.before && gap.after && *gap.after == *gap.before + (gap.count() + 1) * step) {
      std::vector<std::uint64_t> places;
      for (std::uint64_t at = *gap.before + step; at < *gap.after; at += step)
        if (expected_.is_open(at)) places.push_back(at);
      claim(slots, places, least_between(),
            "it lies between two blocks that are as far apart on the disk");
      return;
    }
    // Told by one neighbour alone: where files were written side by side, it counts only of what
    // was written in one go.
    const std::size_t in_one_go = loose_.piece_bytes * kFew >= kInOneGo ? kFew : kSeveral;
    const std::size_t least = share_ < kOneAfterTheOther ? in_one_go : 1;
    if (fill_from_ends(gap, slots, least)) return;
    const auto from = gap.before ? files_.open.upper_bound(*gap.before) : files_.open.begin();
    // What was written last may be followed by what lies before it.
    const bool back = gap.before && gap.after && *gap.after < *gap.before;
    const auto to = gap.after && !back ? files_.open.lower_bound(*gap.after) : files_.open.end();
    // Small parts of files that were written side by side come in no order.
    const std::vector<std::uint64_t> places(from, to);
    if (share_ < kOneAfterTheOther && (in_one_go > kFew || shortest_row(places) < kUnsure)) return;
    claim(slots, places, least, "files lie in just so many blocks of the disk there");
  }

  std::size_t shortest_row(const std::vector<std::uint64_t>& places) const {
    std::size_t shortest = places.size(), length = 0;
    for (std::size_t i = 0; i < places.size(); ++i) {
      ++length;
      if (i + 1 < places.size() && places[i + 1] == places[i] + loose_.piece_bytes) continue;
      shortest = std::min(shortest, length);
      length = 0;
    }
    return shortest;
  }

  // That must lie between two that have their place, when that tells where they belong.
  std::size_t least_between() const { return share_ < kHalfInOrder ? kFew : 1; }

  // What was written in one go goes on behind one that has its place, and ends before the other.
  bool fill_from_ends(const Gap& gap, const std::vector<std::size_t>& slots, std::size_t least) {
    std::vector<std::uint64_t> places, last;
    for (auto at = gap.before ? next(*gap.before) : std::nullopt;
         at && places.size() <= gap.count(); at = next(*at))
      places.push_back(*at);
    for (auto at = gap.after ? previous(*gap.after) : std::nullopt;
         at && last.size() <= gap.count(); at = previous(*at))
      last.push_back(*at);
    if (places.size() == gap.count() &&
        std::equal(places.begin(), places.end(), last.rbegin(), last.rend())) {
      claim(slots, places, least_between(),
            "files go on in just so many blocks from one neighbour to the other");
      return true;
    }
    if (places.size() + last.size() != gap.count()) return false;
    // The same ones from both sides are too few.
    const std::set<std::uint64_t> behind(places.begin(), places.end());
    if (std::any_of(last.begin(), last.end(), [&](auto at) { return behind.contains(at); }))
      return false;
    const std::size_t meet = places.size();
    places.insert(places.end(), last.rbegin(), last.rend());
    claim(slots, places, least, "files lie in just so many blocks behind and before its neighbours",
          share_ < kOneAfterTheOther ? std::optional(meet) : std::nullopt);
    return true;
  }

  std::optional<std::uint64_t> next(std::uint64_t place) const {
    if (files_.open.contains(place + loose_.piece_bytes)) return place + loose_.piece_bytes;
    const auto found = files_.next.find(place);
    return found == files_.next.end() ? std::nullopt : std::optional(found->second);
  }
  std::optional<std::uint64_t> previous(std::uint64_t place) const {
    if (place >= loose_.piece_bytes && files_.open.contains(place - loose_.piece_bytes))
      return place - loose_.piece_bytes;
    const auto found = files_.previous.find(place);
    return found == files_.previous.end() ? std::nullopt : std::optional(found->second);
  }

  // Files that were written side by side: between two blocks of one of them lie, in the file, as
  // many without a place as are open between them on the disk, and blocks of the others.
  void fill_streams() {
    std::map<std::uint64_t, std::size_t> slot_of;  // by place
    std::vector<std::size_t> loose_before{0};
    for (std::size_t i = 0; i < loose_.slots.size(); ++i) {
      if (loose_.slots[i].place) slot_of.emplace(*loose_.slots[i].place, i);
      loose_before.push_back(loose_before.back() + (loose_.slots[i].place ? 0 : 1));
    }
    const std::uint64_t step = loose_.piece_bytes;
    for (auto to = slot_of.begin(), from = to; to != slot_of.end(); from = to++) {
      if (to->second <= from->second || to->second - from->second > kMaxBetween) continue;
      const std::size_t count = loose_before[to->second] - loose_before[from->second];
      const bool neighbours = to->second == from->second + 1 + count;
      if (count == 0 || neighbours || to->first != from->first + (count + 1) * step) continue;
      std::vector<std::size_t> slots;
      for (std::size_t i = from->second + 1; i < to->second; ++i)
        if (!loose_.slots[i].place) slots.push_back(i);
      claim(slots, {files_.open.upper_bound(from->first), files_.open.lower_bound(to->first)},
            least_between(),
            "as many blocks without a place lie between two of the file as on the disk");
    }
  }

  // Nothing when there are fewer than `least`, or not just as many places. `border`: where those
  // of one neighbour end.
  void claim(const std::vector<std::size_t>& slots, const std::vector<std::uint64_t>& places,
             std::size_t least, std::string_view why,
             std::optional<std::size_t> border = std::nullopt) {
    if (places.size() != slots.size() || slots.size() < least) return;
    std::vector<double> bits;
    double behind = 0, before = 0;  // the one neighbour, and the other
    for (std::size_t i = 0; i < places.size(); ++i) {
      bits.push_back(expected_.weigh(loose_.slots[slots[i]].piece, places[i]));
      if (bits.back() < kContradicts) return;
      (border && i < *border ? behind : before) += bits.back();
    }
    if (behind + before < kContradicts) return;
    // That rows are just as many as there is room for happens by chance.
    if (border && *border > 0 && behind < kSupports) return;
    if (border && *border < places.size() && before < kSupports) return;
    for (std::size_t i = 0; i < places.size(); ++i) {
      const bool unsure = border && i + kUnsure >= *border && i < *border + kUnsure;
      if (unsure && bits[i] < kSupports) continue;
      claims_.push_back({loose_.slots[slots[i]].piece, places[i],
                         fmt::format("inferred from the order of the file, {} of {} neighbours "
                                     "follow each other on the disk: {}",
                                     loose_.in_order, loose_.neighbours, why),
                         true});
    }
  }

  const LoosePieces& loose_;
  const Expectations& expected_;
  const FileBlocks& files_;
  const double share_;
  std::vector<PlaceClaim> claims_;
};

}  // namespace

void FileBlocks::add(const std::vector<std::uint64_t>& blocks) {
  std::optional<std::uint64_t> last;  // that is open
  for (std::size_t i = 0; i < blocks.size(); ++i) {
    if (last && *last != blocks[i]) {
      previous.emplace(blocks[i], *last);
      if (open.contains(blocks[i])) next.emplace(*last, blocks[i]);
    }
    if (open.contains(blocks[i])) {
      last = blocks[i];
      if (i > 0) next.emplace(blocks[i - 1], blocks[i]);
    }
  }
}

std::vector<PlaceClaim> places_by_order(const LoosePieces& loose, const Expectations& expected,
                                        const FileBlocks& files) {
  return Order(loose, expected, files).run();
}

}  // namespace lantern
