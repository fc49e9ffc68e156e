#include "nest/places/run_places.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

namespace lantern {
namespace {

constexpr std::size_t kMinInRow = 2, kMinWhole = 4;
constexpr std::size_t kMaxApart = 256;  // blocks between two that fit
constexpr std::size_t kMaxFits = 4096;
constexpr double kSurely = 12;  // bits beyond what so many rows have by chance
constexpr double kApart = 10;   // bits between the best and the next
constexpr double kHopeless = -8, kAgainst = -6;
constexpr double kWorthIt = 4;       // less is no rival to what stands out
constexpr double kFits = 6;          // bits of a block that belongs there
constexpr double kSlight = 1;        // what many blocks in a row have is no news of each
constexpr double kMaxForBorder = 8;  // bits

// Slots without a place, in a row.
struct SlotRow {
  std::size_t from = 0, to = 0;
};

// A row of the disk put on slots.
struct Fit {
  std::size_t from = 0;  // slot
  BlockRow row;
  double bits = 0;

  bool overlaps(const Fit& other) const {
    return from < other.from + other.row.count && other.from < from + row.count;
  }
};

class Runs {
 public:
  Runs(const LoosePieces& loose, const Expectations& expected, std::uint64_t& tests,
       const Context& context)
      : loose_(loose),
        expected_(expected),
        tests_(tests),
        context_(context),
        share_(order_share(loose)) {
    for (std::size_t i = 0; i < loose.slots.size(); ++i) {
      if (loose.slots[i].place) continue;
      if (!runs_.empty() && runs_.back().to == i)
        ++runs_.back().to;
      else
        runs_.push_back({i, i + 1});
    }
  }

  std::vector<PlaceClaim> run(std::set<BlockRow> rows) {
    if (share_ == 0) return {};
    add_rows_of_hits(rows);
    for (const BlockRow& row : rows)
      if (row.count >= kMinInRow) fit(row);
    std::vector<PlaceClaim> claims;
    if (tests_ == 0 || all_.size() > kMaxFits) return claims;  // others may fit as well
    for (const auto& [fits, least] : best_)
      if (stands_out(fits, least)) claim(fits, claims);
    return claims;
  }

 private:
  // Rows between blocks that fit pieces as far apart in the file, and all that lies between them is
  // without a place.
  void add_rows_of_hits(std::set<BlockRow>& rows) const {
    std::map<std::size_t, std::size_t> slot_of;  // by piece
    for (const SlotRow& run : runs_)
      for (std::size_t i = run.from; i < run.to; ++i) slot_of.emplace(loose_.slots[i].piece, i);
    struct At {
      std::uint64_t place = 0;
      double bits = 0;
    };
    // By how far the place lies behind the slot (modulo 2^64), and the slot.
    std::map<std::uint64_t, std::map<std::size_t, At>> lines;
    for (const Expectations::Hit& hit : expected_.hits())
      if (const auto slot = slot_of.find(hit.piece); slot != slot_of.end())
        lines[hit.place - slot->second * step()].emplace(slot->second, At{hit.place, hit.bits});
    for (const auto& [line, hits] : lines) {
      auto first = hits.begin();
      double bits = 0;
      for (auto hit = first; hit != hits.end(); ++hit) {
        if (hit != first && !all_open(std::prev(hit)->first, hit->first, hit->second.place)) {
          first = hit;
          bits = 0;
        }
        bits += hit->second.bits;
        if (hit != first && bits >= kSurely)
          rows.insert({first->second.place, hit->first - first->first + 1});
      }
    }
  }

  // The slots, and the places that end with `place`.
  bool all_open(std::size_t from, std::size_t to, std::uint64_t place) const {
    if (to - from > kMaxApart) return false;
    for (std::size_t i = to; i > from; --i, place -= step())
      if (loose_.slots[i].place || !expected_.is_open(place)) return false;
    return true;
  }

  void fit(const BlockRow& row) {
    std::vector<Fit> fits;
    std::size_t windows = 0;
    for (const SlotRow& run : runs_) {
      for (std::size_t from = run.from; from + row.count <= run.to; ++from) {
        context_.check_cancelled();
        ++windows;
        const double bits = of_border(run, from, row) + of_content(from, row);
        if (tests_ == 0) return;
        if (bits >= kWorthIt) fits.push_back({from, row, bits});
      }
    }
    if (fits.empty()) return;
    all_.insert(all_.end(), fits.begin(), fits.end());
    const Fit best = *std::max_element(fits.begin(), fits.end(),
                                       [](const Fit& a, const Fit& b) { return a.bits < b.bits; });
    best_.emplace_back(best, kSurely + std::log2(static_cast<double>(windows) + 1));
  }

  // Where a run of slots has its border, what was written in one go has it too.
  double of_border(const SlotRow& run, std::size_t from, const BlockRow& row) const {
    const double length = static_cast<double>(run.to - run.from);
    const double at_border = std::min(kMaxForBorder, std::log2(length));
    const double follows = std::log2(static_cast<double>(loose_.slots.size()) * share_);
    const std::uint64_t end = row.first + row.count * loose_.piece_bytes;
    double bits = 0;
    if (from == run.from)
      bits += from > 0 && *loose_.slots[from - 1].place + loose_.piece_bytes == row.first
                  ? follows
                  : at_border;
    if (from + row.count == run.to)
      bits +=
          run.to < loose_.slots.size() && *loose_.slots[run.to].place == end ? follows : at_border;
    return bits;
  }

  double of_content(std::size_t from, const BlockRow& row) {
    double bits = 0;
    for (std::size_t i = 0; i < row.count && bits > kHopeless; ++i) {
      count_test();
      const double of_block = weigh(from, row, i);
      if (of_block < kAgainst) return -std::numeric_limits<double>::infinity();
      if (of_block < 0 || of_block >= kSlight) bits += of_block;
    }
    return bits;
  }

  double weigh(std::size_t from, const BlockRow& row, std::size_t which) const {
    return expected_.weigh(loose_.slots[from + which].piece, row.first + which * step());
  }

  // Whether it says much more than it would with this row, or these slots, given to another: by
  // all that either way gives to the rows that are concerned.
  bool stands_out(const Fit& best, double least) const {
    if (best.bits < least || tests_ == 0) return false;
    return std::none_of(all_.begin(), all_.end(), [&](const Fit& other) {
      const bool same =
          other.row.first + best.from * step() == best.row.first + other.from * step();
      const bool same_row = meet(best.row, other.row);
      if (same || (!same_row && !other.overlaps(best))) return false;
      double apart = best.bits - other.bits;
      if (same_row && apart >= kApart) return false;
      if (same_row)
        apart += lost_by(other);
      else
        apart += best_of(other.row, best) - best_of(best.row, other);
      return apart < kApart;
    });
  }

  bool meet(const BlockRow& a, const BlockRow& b) const {
    return a.first < b.first + b.count * step() && b.first < a.first + a.count * step();
  }

  // The best fit of the row, or of one that shares blocks with it, on other slots than `taken`.
  double best_of(const BlockRow& row, const Fit& taken) const {
    double bits = 0;
    count_test();
    for (const Fit& fit : all_)
      if (fit.bits > bits && meet(fit.row, row) && !fit.overlaps(taken)) bits = fit.bits;
    return bits;
  }

  // What another row loses that would have the slots of `taken`.
  double lost_by(const Fit& taken) const {
    const Fit* strongest = nullptr;
    count_test();
    for (const Fit& fit : all_)
      if (fit.overlaps(taken) && !meet(fit.row, taken.row) &&
          (strongest == nullptr || fit.bits > strongest->bits))
        strongest = &fit;
    return strongest == nullptr ? 0
                                : std::max(0.0, strongest->bits - best_of(strongest->row, taken));
  }

  // Of the row, what lies between blocks that fit for themselves; where it takes up all that lies
  // between two that have their place, all but its ends, in which other files may lie.
  void claim(const Fit& fit, std::vector<PlaceClaim>& claims) const {
    std::size_t first = fit.row.count, last = 0;
    for (std::size_t i = 0; i < fit.row.count; ++i)
      if (weigh(fit.from, fit.row, i) >= kFits) {
        first = std::min(first, i);
        last = i;
      }
    if (first <= last && fit.row.count >= kMinWhole && is_run(fit)) {
      first = std::min<std::size_t>(first, 1);
      last = std::max(last, fit.row.count - 2);
    }
    for (std::size_t i = first; i <= last; ++i)
      claims.push_back({loose_.slots[fit.from + i].piece, fit.row.first + i * step(),
                        fmt::format("inferred from the order of the file, {} of {} neighbours "
                                    "follow each other on the disk: {} blocks in a row fit the "
                                    "files that lie there, and no other row",
                                    loose_.in_order, loose_.neighbours, fit.row.count),
                        true});
  }

  bool is_run(const Fit& fit) const {
    return std::any_of(runs_.begin(), runs_.end(), [&](const SlotRow& run) {
      return run.from == fit.from && run.to == fit.from + fit.row.count;
    });
  }

  void count_test() const { tests_ -= std::min<std::uint64_t>(tests_, 1); }

  std::uint64_t step() const { return loose_.piece_bytes; }

  const LoosePieces& loose_;
  const Expectations& expected_;
  std::uint64_t& tests_;
  const Context& context_;
  const double share_;
  std::vector<SlotRow> runs_;
  std::vector<Fit> all_;
  std::vector<std::pair<Fit, double>> best_;
};

}  // namespace

std::vector<PlaceClaim> places_of_runs(const LoosePieces& loose, const Expectations& expected,
                                       const std::set<BlockRow>& rows, std::uint64_t& tests,
                                       const Context& context) {
  return Runs(loose, expected, tests, context).run(rows);
}

}  // namespace lantern
