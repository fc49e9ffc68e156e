#include "container/expectations.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "base/bytes.h"
#include "lantern/text.h"

namespace lantern {
namespace {

constexpr std::uint64_t kMaxTests = 100'000'000;  // of a piece at a place, in one go
constexpr std::size_t kMaxOfPlace = 64;           // more say no more
constexpr std::uint64_t kHeldWhole = 4ull << 20;  // pieces larger than that are read in parts
constexpr double kSurely = 12;                    // bits beyond what so many pieces have by chance
constexpr double kLikely = 8;                     // likewise: enough to infer a place from
constexpr double kApart = 10;                     // bits between the best and the next
constexpr double kHopeless = -20;
constexpr double kHit = 4;
constexpr std::size_t kMaxHits = 1u << 20;

class Unquestioned final : public ByteSource {
 public:
  explicit Unquestioned(SourcePtr disk) : disk_(std::move(disk)) {}
  std::uint64_t size() const override { return disk_->size(); }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    const ReadResult got = disk_->read(offset, out);
    unreadable.insert(unreadable.end(), got.unreadable.begin(), got.unreadable.end());
  }

 private:
  SourcePtr disk_;
};

// The two best of a row.
struct Best {
  double first = 0, second = 0;
  std::size_t which = 0;
  std::size_t fits = 0;  // expectations that fit
  std::string strongest = {};

  void add(double bits, std::size_t who, std::size_t fitting, const std::string& what) {
    if (bits <= first) {
      second = std::max(second, bits);
      return;
    }
    *this = {bits, first, who, fitting, what};
  }

  bool stands_out(double least) const { return first >= least && first - second >= kApart; }
};

bool both_stand_out(const Best& one, const Best& other, double least) {
  return one.stands_out(least) && other.stands_out(least);
}

}  // namespace

SourcePtr unquestioned(SourcePtr disk) {
  return std::make_shared<Unquestioned>(std::move(disk));
}

double order_share(const LoosePieces& loose) {
  constexpr std::size_t kMinInOrder = 4;
  constexpr double kMinShare = 0.2, kTimesChance = 8;
  if (loose.in_order < kMinInOrder) return 0;
  const double share = static_cast<double>(loose.in_order) / static_cast<double>(loose.neighbours);
  const double chance = 1 / static_cast<double>(loose.slots.size());
  return share >= std::max(kMinShare, kTimesChance * chance) ? share : 0;
}

Expectations::Expectations(const LoosePieces& loose, const SourcePtr& known, const Context& context)
    : loose_(loose), context_(context) {
  const std::uint64_t unit = loose.piece_bytes;
  known->extents({0, known->size()}, [&](const Extent& extent) {
    if (extent.kind != ExtentKind::unreadable) return true;
    const std::uint64_t first = (extent.range.offset + unit - 1) / unit * unit;
    for (std::uint64_t at = first; at < extent.range.end(); at += unit) open_[at];
    return true;
  });
}

bool Expectations::is_open(std::uint64_t place) const {
  return open_.contains(place / loose_.piece_bytes * loose_.piece_bytes);
}

void Expectations::add(Range range, std::string what, Weigh weigh) {
  const std::uint64_t within = range.offset % loose_.piece_bytes;
  const auto block = open_.find(range.offset - within);
  if (block == open_.end() || range.empty() || range.length > loose_.piece_bytes - within ||
      block->second.size() >= kMaxOfPlace)
    return;
  block->second.push_back(
      {within, static_cast<std::size_t>(range.length), std::move(what), std::move(weigh)});
}

Expectations::Weight Expectations::weigh(const std::vector<One>& expected, const ByteSource& piece,
                                         ByteView held) const {
  Weight weight;
  double most = 0;
  Bytes part;
  for (const One& one : expected) {
    if (held.empty()) {
      part.assign(one.length, std::byte{0});
      piece.read(one.within, part);
    }
    const double bits =
        one.weigh(held.empty() ? ByteView(part)
                               : held.subspan(static_cast<std::size_t>(one.within), one.length));
    weight.bits += bits;
    if (bits > 0) ++weight.fits;
    if (bits > most) {
      most = bits;
      weight.strongest = &one;
    }
    if (weight.bits < kHopeless) break;
  }
  return weight;
}

double Expectations::weigh(std::size_t piece, std::uint64_t place) const {
  const auto expected = open_.find(place);
  return expected == open_.end() ? 0 : weigh(expected->second, *loose_.bytes[piece], {}).bits;
}

std::vector<std::uint64_t> Expectations::open() const {
  std::vector<std::uint64_t> places;
  for (const auto& [place, expected] : open_) places.push_back(place);
  return places;
}

// Where pieces would be if they followed, or preceded, their neighbour in the file on the disk too:
// bits.
std::map<std::size_t, std::map<std::uint64_t, double>> Expectations::foretold() const {
  std::map<std::size_t, std::map<std::uint64_t, double>> said;
  const double share = order_share(loose_);
  if (share == 0) return said;
  const double bits = std::log2(static_cast<double>(loose_.slots.size()) * share);
  for (std::size_t i = 0; i < loose_.slots.size(); ++i) {
    if (loose_.slots[i].place) continue;
    auto& places = said[loose_.slots[i].piece];
    if (i > 0 && loose_.slots[i - 1].place)
      places[*loose_.slots[i - 1].place + loose_.piece_bytes] += bits;
    if (i + 1 < loose_.slots.size() && loose_.slots[i + 1].place &&
        *loose_.slots[i + 1].place >= loose_.piece_bytes)
      places[*loose_.slots[i + 1].place - loose_.piece_bytes] += bits;
  }
  return said;
}

std::vector<PlaceClaim> Expectations::claims() {
  hits_.clear();
  claims_.clear();
  std::map<std::uint64_t, Best> of_place;
  std::map<std::size_t, Best> of_piece;
  const auto order = foretold();
  std::size_t count = 0;
  std::uint64_t tests = 0;
  Bytes whole;
  for (std::size_t piece = 0; piece < loose_.bytes.size(); ++piece) {
    if (loose_.placed[piece]) continue;
    ++count;
    const bool held = loose_.piece_bytes <= kHeldWhole;
    if (held) {
      whole.assign(static_cast<std::size_t>(loose_.piece_bytes), std::byte{0});
      loose_.bytes[piece]->read(0, whole);
    }
    const auto by_order = order.find(piece);
    for (const auto& [place, expected] : open_) {
      context_.check_cancelled();
      if (expected.empty()) continue;
      tests += expected.size();
      if (tests > kMaxTests) return {};
      const Weight weight = weigh(expected, *loose_.bytes[piece], whole);
      if (weight.strongest == nullptr) continue;
      double bits = weight.bits;
      if (bits >= kHit && hits_.size() < kMaxHits) hits_.push_back({piece, place, bits});
      if (by_order != order.end())
        if (const auto told = by_order->second.find(place); told != by_order->second.end())
          bits += told->second;
      if (bits <= 0) continue;
      of_place[place].add(bits, piece, weight.fits, weight.strongest->what);
      of_piece[piece].add(bits, 0, 0, {});
    }
  }
  const double by_chance = std::log2(static_cast<double>(count) + 1);
  for (const auto& [place, best] : of_place) {
    const Best& of_its_piece = of_piece.at(best.which);
    if (!both_stand_out(best, of_its_piece, kLikely + by_chance)) continue;
    const bool sure = both_stand_out(best, of_its_piece, kSurely + by_chance);
    claims_.push_back(
        {best.which, place,
         fmt::format("{}it holds {}{}",
                     sure ? "" : "inferred, since no other fits: ", best.strongest,
                     best.fits > 1 ? fmt::format(", and {} more that is expected there",
                                                 counted(best.fits - 1, "thing"))
                                   : ""),
         !sure});
  }
  return claims_;
}

}  // namespace lantern
