#include "nest/places/stream_places.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <deque>
#include <limits>
#include <map>
#include <optional>
#include <utility>

namespace lantern {
namespace {

constexpr std::size_t kKept = 64;          // ways that are followed at once
constexpr std::size_t kWindow = 1024;      // blocks, after which the best way is settled
constexpr double kAgreed = 0.9;            // share of all ways that is worth telling
constexpr double kFarBehind = 32;          // bits behind the best: given up
constexpr std::size_t kMaxSteps = 4096;    // from one block to the next, the likeliest
constexpr std::size_t kFewSegments = 256;  // of which any may begin at a block
constexpr std::size_t kRecent = 256;       // contents that may be gone on with
constexpr double kUnknown = 0.1;           // share of blocks that hold what no file tells of
constexpr std::uint64_t kNowhere = UINT64_MAX;
constexpr std::uint32_t kNone = UINT32_MAX;
constexpr double kNever = -std::numeric_limits<double>::infinity();

double bits_of(double share) {
  return -std::log2(share);
}

// How writers go on, as seen where blocks have their place: bits.
struct Habits {
  double follows = 0, breaks = 0;    // what lies before on the disk lies before in the file, or not
  double starts = 0;                 // else a content begins
  double unknown = 0;                // or something no file tells of
  std::array<double, 16> resumes{};  // or one is gone on with, by the distance
  double disordered = 0;             // a part of a content was written before what precedes it

  double resumed(std::uint32_t distance) const {
    return resumes.at(std::min<std::size_t>(std::bit_width(distance), resumes.size() - 1));
  }
};

// Open blocks in a row in which one content lies, or several that go on from one to the next.
struct Segment {
  std::uint64_t first = 0;
  std::uint32_t count = 0;
};

// What a way has written of a segment.
struct Written {
  std::uint32_t segment = 0, count = 0, slot = 0;
};

// How one way came from one of those of the block before.
struct Step {
  std::uint32_t from = 0, to = 0;
  double bits = 0;
  std::uint64_t place = kNowhere;
};

// The ways up to a block without a place.
struct Layer {
  std::uint32_t slot = 0;
  std::vector<Step> steps;
  std::vector<double> bits;  // of each way
};

double sum_of_bits(double one, double other) {
  const double more = std::max(one, other);
  if (more == kNever) return kNever;
  return more + std::log2(1 + std::exp2(std::min(one, other) - more));
}

// One of the ways in which the blocks so far may have been written.
struct Way {
  double bits = 0, since = 0;  // all, and as of the last block without a place
  std::uint64_t last = kNowhere;
  std::uint64_t hash = 0;  // of what is written
  std::vector<Written> written;
  std::uint32_t elsewhere = kNone;  // the last slot that holds what no way goes on in

  const Written* of(std::uint32_t segment) const {
    const auto found = std::find_if(written.begin(), written.end(),
                                    [&](const Written& one) { return one.segment == segment; });
    return found == written.end() ? nullptr : &*found;
  }
  Written* of(std::uint32_t segment) {
    return const_cast<Written*>(std::as_const(*this).of(segment));
  }
};

class Streams {
 public:
  Streams(FileRow row, std::uint64_t& tries, const Context& context)
      : row_(std::move(row)), tries_(tries), context_(context) {}

  // A place in which most ways agree, and the share of those that do not.
  struct Agreed {
    std::uint64_t place = 0;
    double doubt = 0;
  };
  // By slot.
  std::map<std::uint32_t, Agreed> run() {
    find_segments();
    learn();
    ways_.assign(1, {});
    std::size_t loose_slots = 0;
    for (std::uint32_t slot = 0; slot < row_.count(); ++slot) {
      context_.check_cancelled();
      if (tries_ == 0) return {};
      if (const auto place = row_.place(slot)) {
        pass(slot, *place);
        continue;
      }
      write(slot);
      if (++loose_slots % kWindow == 0) settle();
    }
    settle();
    return std::move(agreed_);
  }

  const FileRow& row() const { return row_; }

 private:
  struct Next {
    double bits = 0;
    std::size_t way = 0;
    std::uint64_t place = kNowhere;
    std::uint32_t segment = kNone;
    std::uint64_t hash = 0;
  };

  void find_segments() {
    for (const std::uint64_t place : row_.open()) {
      if (!segments_.empty() && row_.goes_on(place) &&
          place == segments_.back().first + segments_.back().count)
        ++segments_.back().count;
      else
        segments_.push_back({place, 1});
    }
    settled_.resize(segments_.size());
  }

  std::optional<std::uint32_t> segment_of(std::uint64_t place) const {
    const auto above = std::upper_bound(
        segments_.begin(), segments_.end(), place,
        [](std::uint64_t at, const Segment& segment) { return at < segment.first; });
    if (above == segments_.begin()) return std::nullopt;
    const auto& segment = *std::prev(above);
    if (place >= segment.first + segment.count) return std::nullopt;
    return static_cast<std::uint32_t>(std::prev(above) - segments_.begin());
  }

  void learn() {
    double neighbours = 0, follows = 0, resumed = 0, started = 0, pairs = 0, disordered = 0;
    std::array<double, 16> by_distance;
    by_distance.fill(0.5);
    for (const auto& [place, slot] : row_.placed()) {
      const auto before = row_.placed().find(place - 1);
      const bool next = before != row_.placed().end() && before->second + 1 == slot;
      if (slot > 0 && row_.place(slot - 1)) {
        ++neighbours;
        if (next) ++follows;
      }
      if (before != row_.placed().end() && row_.goes_on(place)) {
        ++pairs;
        if (before->second > slot) ++disordered;
      }
      if (next || (before == row_.placed().end() && segment_of(place - 1))) continue;
      if (before != row_.placed().end() && before->second < slot) {
        ++resumed;
        ++by_distance.at(std::min<std::size_t>(std::bit_width(slot - before->second), 15));
      } else {
        ++started;
      }
    }
    const double share = (follows + 1) / (neighbours + 2);
    habits_.follows = bits_of(share);
    habits_.breaks = bits_of(1 - share);
    const double of_resumed = (resumed + 1) / (resumed + started + 2);
    habits_.unknown = bits_of(kUnknown);
    habits_.starts = bits_of((1 - kUnknown) * (1 - of_resumed)) +
                     std::log2(static_cast<double>(segments_.size() + 1));
    habits_.disordered = bits_of((disordered + 1) / (pairs + 2));
    double all = 0;
    for (const double one : by_distance) all += one;
    for (std::size_t i = 0; i < by_distance.size(); ++i)
      habits_.resumes[i] = bits_of((1 - kUnknown) * of_resumed * by_distance[i] / all) +
                           static_cast<double>(i > 0 ? i - 1 : 0);
  }

  // Where a way can go on without a break, or nowhere.
  std::uint64_t following(const Way& way, std::uint32_t slot) const {
    if (way.last == kNowhere) return kNowhere;
    const std::uint64_t place = way.last + 1;
    if (const auto placed = row_.slot_at(place)) return *placed >= slot ? place : kNowhere;
    const auto segment = segment_of(place);
    if (!segment) return kNowhere;
    return front(way, *segment) == place ? place : kNowhere;
  }

  // What a way has written of a segment, before the last time that the best was settled or since.
  const Written& written(const Way& way, std::uint32_t segment) const {
    const Written* const since = way.of(segment);
    return since == nullptr ? settled_[segment] : *since;
  }

  // The first block of a segment that a way has not written; nowhere when it is full.
  std::uint64_t front(const Way& way, std::uint32_t segment) const {
    const std::uint32_t count = written(way, segment).count;
    return count == segments_[segment].count ? kNowhere : segments_[segment].first + count;
  }

  // A block that has its place.
  void pass(std::uint32_t slot, std::uint64_t place) {
    for (Way& way : ways_) {
      const std::uint64_t follows = following(way, slot);
      if (follows == place) {
        way.bits -= habits_.follows;
      } else {
        if (follows != kNowhere) way.bits -= habits_.breaks;
        way.bits -= from_before(way, slot, place);
      }
      way.last = place;
    }
    if (const auto segment = segment_of(place + 1);
        segment && segments_[*segment].first == place + 1)
      may_go_on_.push_back({*segment, 0, slot});
    if (may_go_on_.size() > kRecent) may_go_on_.pop_front();
  }

  double from_before(const Way& way, std::uint32_t slot, std::uint64_t place) const {
    if (const auto before = row_.slot_at(place - 1))
      return *before < slot ? habits_.resumed(slot - *before) : habits_.starts;
    const auto segment = segment_of(place - 1);
    if (!segment) return habits_.starts;
    const Written& before = written(way, *segment);
    if (before.count > 0 && segments_[*segment].first + before.count == place)
      return habits_.resumed(slot - before.slot);
    return habits_.starts + habits_.disordered;
  }

  void write(std::uint32_t slot) {
    next_.clear();
    for (std::size_t i = 0; i < ways_.size(); ++i) {
      const Way& way = ways_[i];
      const std::uint64_t follows = following(way, slot);
      const double breaks = follows == kNowhere ? 0 : habits_.breaks;
      if (const auto segment = follows == kNowhere ? std::nullopt : segment_of(follows))
        try_place(slot, i, *segment, habits_.follows);
      for (const Written& one : way.written)
        if (one.count < segments_[one.segment].count && front(way, one.segment) != follows)
          try_place(slot, i, one.segment, breaks + habits_.resumed(slot - one.slot));
      for (const Written& one : may_go_on_)
        if (way.of(one.segment) == nullptr && one.count == settled_[one.segment].count &&
            front(way, one.segment) != follows)
          try_place(slot, i, one.segment, breaks + habits_.resumed(slot - one.slot));
      try_starts(slot, i, breaks + habits_.starts, follows);
      next_.push_back({way.bits + elsewhere(way, slot, breaks), i, kNowhere, kNone, way.hash});
    }
    keep(slot);
  }

  // That a piece belongs where no way goes on: bits. It may go on what was written there before.
  double elsewhere(const Way& way, std::uint32_t slot, double breaks) {
    const double begins = -breaks - habits_.unknown;
    if (way.elsewhere == kNone) return begins;
    const double alike_it = row_.alike(way.elsewhere, slot);
    if (way.last == kNowhere) return std::max(begins - habits_.breaks, alike_it - habits_.follows);
    return begins + std::max(0.0, alike_it);
  }

  void try_starts(std::uint32_t slot, std::size_t way, double cost, std::uint64_t follows) {
    const auto start = [&](std::uint32_t segment) {
      const std::uint64_t first = segments_[segment].first;
      if (written(ways_[way], segment).count > 0 || first == follows ||
          row_.slot_at(first - 1).value_or(kNone) < slot)
        return;
      try_place(slot, way, segment, cost);
    };
    if (segments_.size() <= kFewSegments) {
      for (std::uint32_t segment = 0; segment < segments_.size(); ++segment) start(segment);
      return;
    }
    for (const std::uint64_t place : row_.fitting(slot))
      if (const auto segment = segment_of(place); segment && segments_[*segment].first == place)
        start(*segment);
  }

  void try_place(std::uint32_t slot, std::size_t i, std::uint32_t segment, double cost) {
    const Way& way = ways_[i];
    const std::uint64_t place = front(way, segment);
    if (place == kNowhere || tries_ == 0) return;
    --tries_;
    const double bits = way.bits - cost + fits(way, slot, segment, place);
    next_.push_back(
        {bits, i, place, segment, way.hash ^ mark(segment, written(way, segment).count)});
  }

  static std::uint64_t mark(std::uint32_t segment, std::uint32_t count) {
    std::uint64_t x = (std::uint64_t{segment} << 32 | count) + 0x9E3779B97F4A7C15;
    x = (x ^ (x >> 30)) * 0xBF58476D1CE4E5B9;
    x = (x ^ (x >> 27)) * 0x94D049BB133111EB;
    return x ^ (x >> 31);
  }

  // What a block says of a place: bits.
  double fits(const Way& way, std::uint32_t slot, std::uint32_t segment, std::uint64_t place) {
    double bits = row_.expects(slot, place);
    const auto before = row_.slot_at(place - 1), behind = row_.slot_at(place + 1);
    if (const Written& last = written(way, segment); last.count > 0)
      bits += row_.alike(place, last.slot, slot);
    else if (before)
      bits += row_.alike(place, *before, slot);
    if (behind) bits += row_.alike(place + 1, slot, *behind);
    const bool early = before && *before > slot && row_.goes_on(place);
    const bool late = behind && *behind < slot && row_.goes_on(place + 1);
    return bits - (early || late ? habits_.disordered : 0);
  }

  // The best of what may come next; ways that have written the same are one.
  void keep(std::uint32_t slot) {
    std::sort(next_.begin(), next_.end(),
              [](const Next& a, const Next& b) { return a.bits > b.bits; });
    Layer layer{slot, {}, {}};
    std::vector<Way> ways;
    std::map<std::pair<std::uint64_t, std::uint64_t>, std::size_t> seen;
    for (const Next& one : next_) {
      if (one.bits < next_.front().bits - kFarBehind || layer.steps.size() == kMaxSteps) break;
      // What is given up counts as if it went on as the best does.
      const auto same = seen.find({one.hash, one.place});
      const bool follow = same == seen.end() && ways.size() < kKept;
      const std::size_t to = follow ? ways.size() : same != seen.end() ? same->second : 0;
      layer.steps.push_back({static_cast<std::uint32_t>(one.way), static_cast<std::uint32_t>(to),
                             one.bits - ways_[one.way].since, one.place});
      if (!follow) {
        ways[to].bits = sum_of_bits(ways[to].bits, one.bits);
        continue;
      }
      seen.emplace(std::pair{one.hash, one.place}, to);
      ways.push_back(ways_[one.way]);
      Way& way = ways.back();
      way.bits = one.bits;
      way.last = one.place;
      way.hash = one.hash;
      if (one.segment == kNone) {
        way.elsewhere = slot;
      } else if (Written* const written = way.of(one.segment)) {
        ++written->count;
        written->slot = slot;
      } else {
        way.written.push_back({one.segment, settled_[one.segment].count + 1, slot});
      }
    }
    for (Way& way : ways) {
      way.since = way.bits;
      layer.bits.push_back(way.bits);
    }
    ways_ = std::move(ways);
    layers_.push_back(std::move(layer));
  }

  // Claims what nearly all ways agree on, weighed by how likely they are, and goes on with the best
  // of them alone.
  void settle() {
    std::vector<double> behind;  // bits of all that follows, by way
    double all = kNever;
    for (const Way& way : ways_) {
      behind.push_back(way.bits - way.since);
      all = sum_of_bits(all, way.bits);
    }
    for (std::size_t i = layers_.size(); i-- > 0;) {
      const Layer& layer = layers_[i];
      std::map<std::uint64_t, double> shares;
      std::vector<double> before(i == 0 ? 1 : layers_[i - 1].bits.size(), kNever);
      for (const Step& step : layer.steps) {
        const double bits = step.bits + behind[step.to];
        before[step.from] = sum_of_bits(before[step.from], bits);
        const double until = i == 0 ? 0 : layers_[i - 1].bits[step.from];
        shares[step.place] += std::exp2(until + bits - all);
      }
      behind = std::move(before);
      for (const auto& [place, share] : shares)
        if (place != kNowhere && share >= kAgreed)
          agreed_.emplace(layer.slot, Agreed{place, std::max(0.0, 1 - share)});
    }
    layers_.clear();
    Way best = *std::max_element(ways_.begin(), ways_.end(),
                                 [](const Way& a, const Way& b) { return a.bits < b.bits; });
    best.bits = best.since = 0;
    for (const Written& one : best.written) {
      settled_[one.segment] = one;
      may_go_on_.push_back(one);
      if (may_go_on_.size() > kRecent) may_go_on_.pop_front();
    }
    best.written.clear();
    ways_.clear();
    ways_.push_back(std::move(best));
  }

  FileRow row_;
  std::uint64_t& tries_;
  const Context& context_;
  Habits habits_;
  std::vector<Segment> segments_;  // by their first block
  std::vector<Written> settled_;   // by segment
  std::deque<Written> may_go_on_;  // behind what was passed or settled
  std::vector<Way> ways_;
  std::vector<Next> next_;
  std::vector<Layer> layers_;
  std::map<std::uint32_t, Agreed> agreed_;
};

}  // namespace

std::vector<StreamClaim> places_of_streams(const LoosePieces& loose, const SourcePtr& disk,
                                           const Expectations& expected, const LaidBlocks& laid,
                                           std::uint64_t& tries, const Context& context) {
  if (order_share(loose) == 0 || loose.piece_bytes < 2 * Likeness::kLooked ||
      disk->size() / loose.piece_bytes >= UINT32_MAX)
    return {};
  const Likeness likeness(disk, laid.inside);
  if (!likeness.tells()) return {};
  const auto seen_from = [&](FileRow::From from) {
    Streams streams(FileRow(loose, disk, expected, laid, likeness, from), tries, context);
    std::map<std::size_t, StreamClaim> claims;  // by piece
    for (const auto& [slot, agreed] : streams.run()) {
      StreamClaim claim{
          streams.row().claim(
              slot, agreed.place,
              fmt::format("inferred from the order of the file, {} of {} neighbours follow each "
                          "other on the disk: files were written in turn, and the one that lies "
                          "there goes on with this block",
                          loose.in_order, loose.neighbours)),
          agreed.doubt};
      claims.emplace(claim.claim.piece, std::move(claim));
    }
    return claims;
  };
  const auto from_end = seen_from(FileRow::From::end);
  std::vector<StreamClaim> claims;
  for (const auto& [piece, one] : seen_from(FileRow::From::start)) {
    const auto other = from_end.find(piece);
    if (other == from_end.end() || other->second.claim.disk_offset != one.claim.disk_offset)
      continue;
    claims.push_back({one.claim, std::max(one.doubt, other->second.doubt)});
  }
  return claims;
}

}  // namespace lantern
