#include "physical/reading/order.h"

#include <algorithm>

namespace lantern {
namespace {

class Reading {
 public:
  Reading(ReadMap& map, const ReadOrder& order, const std::function<Tried(Range)>& read,
          const Context& context)
      : map_(map), order_(order), read_(read), context_(context) {}

  void run() {
    forward();
    from_the_middle();
    what_was_left();
    for (unsigned tries = 1; tries <= order_.rounds; ++tries) again(tries);
  }

 private:
  std::uint64_t aligned(std::uint64_t at) const {
    return at / order_.sector_bytes * order_.sector_bytes;
  }

  // Whether all came, and quickly. What lies behind the trouble is left.
  bool try_piece(Range range) {
    context_.check_cancelled();
    const Tried tried = read_(range);
    const std::uint64_t good = std::min(tried.good, range.length);
    map_.set({range.offset, good}, ReadState::good);
    map_.set({range.offset + good, range.length - good}, ReadState::left);
    return good == range.length && !tried.slow;
  }

  void forward() {
    const std::uint64_t farthest = std::max(order_.piece_bytes, map_.size() / 16);
    std::uint64_t jump = order_.piece_bytes;
    std::uint64_t from = 0;
    while (const auto run = map_.next(ReadState::untried, from)) {
      const Range piece{run->offset, std::min(order_.piece_bytes, run->length)};
      from = piece.end();
      if (try_piece(piece)) {
        jump = order_.piece_bytes;
      } else {
        from += jump;
        jump = std::min(jump * 2, farthest);
      }
    }
  }

  void from_the_middle() {
    while (const auto gap = map_.largest(ReadState::untried)) {
      if (gap->length <= 2 * order_.probe_bytes) {
        try_piece(*gap);
        continue;
      }
      const std::uint64_t middle = aligned(gap->offset + gap->length / 2 - order_.probe_bytes / 2);
      if (!try_piece({middle, order_.probe_bytes})) continue;
      std::uint64_t step = order_.probe_bytes;
      for (std::uint64_t at = middle + order_.probe_bytes; at < gap->end();) {
        const Range piece{at, std::min(step, gap->end() - at)};
        at = piece.end();
        step = std::min(step * 2, order_.piece_bytes);
        if (!try_piece(piece)) break;
      }
      step = order_.probe_bytes;
      for (std::uint64_t end = middle; end > gap->offset;) {
        const std::uint64_t length = std::min(step, end - gap->offset);
        end -= length;
        step = std::min(step * 2, order_.piece_bytes);
        if (!try_piece({end, length})) break;
      }
    }
  }

  // Here the sector at which a read ends in trouble has failed by itself. Without an answer ever
  // less is asked for, until that is one sector.
  void what_was_left() {
    std::uint64_t most = order_.piece_bytes;
    while (const auto run = map_.largest(ReadState::left)) {
      context_.check_cancelled();
      std::uint64_t from = run->offset;
      const bool at_border = from == 0 || map_.at(from - 1) == ReadState::good;
      if (!at_border && run->length > 2 * order_.sector_bytes)
        from = std::max(from, aligned(run->offset + run->length / 2));
      const Range piece{from, std::min(most, run->end() - from)};
      const Tried tried = read_(piece);
      const std::uint64_t good = std::min(tried.good, piece.length);
      map_.set({from, good}, ReadState::good);
      most = std::min(most * 2, order_.piece_bytes);
      if (good == piece.length) continue;
      if (tried.no_answer && piece.length > order_.sector_bytes) {
        most = std::max(aligned(piece.length / 4), order_.sector_bytes);
        continue;
      }
      const std::uint64_t bad = std::max(from, aligned(from + good));
      map_.set({from + good, std::min(bad + order_.sector_bytes, piece.end()) - (from + good)},
               ReadState::failed, 1);
    }
  }

  // What failed so often; in turn forward and backward.
  void again(unsigned tries) {
    std::vector<Range> sectors;
    for (const ReadMap::Run& run : map_.runs())
      if (run.state == ReadState::failed && run.tries == tries)
        for (std::uint64_t at = run.range.offset; at < run.range.end();) {
          const std::uint64_t end = std::min(aligned(at) + order_.sector_bytes, run.range.end());
          sectors.push_back({at, end - at});
          at = end;
        }
    if (tries % 2 == 0) std::reverse(sectors.begin(), sectors.end());
    for (const Range& sector : sectors) {
      context_.check_cancelled();
      const std::uint64_t good = std::min(read_(sector).good, sector.length);
      map_.set({sector.offset, good}, ReadState::good);
      map_.set({sector.offset + good, sector.length - good}, ReadState::failed, tries + 1);
    }
  }

  ReadMap& map_;
  const ReadOrder& order_;
  const std::function<Tried(Range)>& read_;
  const Context& context_;
};

}  // namespace

void read_in_order(ReadMap& map, const ReadOrder& order, const std::function<Tried(Range)>& read,
                   const Context& context) {
  Reading(map, order, read, context).run();
}

}  // namespace lantern
