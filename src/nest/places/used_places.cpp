#include "nest/places/used_places.h"

#include <algorithm>
#include <array>
#include <cmath>

#include "lantern/sources.h"

namespace lantern {
namespace {

constexpr std::size_t kMaxStretches = 16;  // of a block: more say no more
constexpr std::size_t kMaxRanges = 4096;   // of a block
constexpr std::size_t kMaxLearned = 4096;  // blocks
constexpr double kMinShare = 0.02;         // no rule without exception

double bits(double share, double by_chance) {
  return std::log2(std::clamp(share, kMinShare, 1 - kMinShare) /
                   std::clamp(by_chance, kMinShare, 1 - kMinShare));
}

}  // namespace

void UsedPlaces::look(ByteView sector) {
  if (!all_zero(sector)) ++data_sectors_;
}

void UsedPlaces::clear() {
  used_.clear();
  placed_ = 0;
}

void UsedPlaces::add(std::uint64_t place, std::uint64_t length, std::uint64_t cluster,
                     const Expectations& expected) {
  const std::uint64_t unit = loose_.piece_bytes;
  const std::uint64_t end = place + (length + cluster - 1) / cluster * cluster;
  for (std::uint64_t at = place; at < end;) {
    const std::uint64_t block = at / unit * unit;
    const std::uint64_t to = std::min(end, block + unit);
    auto found = used_.find(block);
    if (found == used_.end() && (expected.is_open(block) || placed_++ < kMaxLearned))
      found = used_.emplace(block, std::vector<Range>{}).first;
    if (found != used_.end() && found->second.size() < kMaxRanges)
      found->second.push_back({at, to - at});
    at = to;
  }
}

std::vector<UsedPlaces::Stretch> UsedPlaces::stretches(std::uint64_t block,
                                                       const std::vector<Range>& used) const {
  std::vector<Range> sorted = used;
  std::sort(sorted.begin(), sorted.end(),
            [](const Range& a, const Range& b) { return a.offset < b.offset; });
  std::vector<Range> joined;
  for (const Range& range : sorted)
    if (!joined.empty() && range.offset <= joined.back().end())
      joined.back().length = std::max(joined.back().end(), range.end()) - joined.back().offset;
    else
      joined.push_back(range);
  std::vector<Stretch> found;
  const auto add = [&](std::uint64_t from, std::uint64_t to, bool is_used) {
    const std::uint64_t middle = from + (to - from) / 2 / kSector * kSector;
    if (to >= from + kSector && found.size() < kMaxStretches) found.push_back({middle, is_used});
  };
  std::uint64_t at = block;
  for (const Range& range : joined) {
    add(at, range.offset, false);
    add(range.offset, range.end(), true);
    at = range.end();
  }
  add(at, block + loose_.piece_bytes, false);
  return found;
}

void UsedPlaces::expect(const SourcePtr& known, Expectations& expected,
                        const Context& context) const {
  // Of stretches in blocks that have their place: how many hold data, by whether files lie there.
  struct Seen {
    double data = 1, all = 2;  // as if one of each had been seen
  };
  std::array<Seen, 2> seen{};
  std::array<std::byte, kSector> sector{};
  for (const auto& [block, used] : used_) {
    context.check_cancelled();
    if (expected.is_open(block)) continue;
    for (const Stretch& stretch : stretches(block, used)) {
      const ReadResult got = known->read(stretch.sector, sector);
      if (got.length < kSector || !got.unreadable.empty()) continue;
      Seen& of = seen.at(stretch.used ? 1 : 0);
      of.data += all_zero(sector) ? 0 : 1;
      of.all += 1;
    }
  }
  const double by_chance =
      static_cast<double>(data_sectors_) * kSector /
      (static_cast<double>(loose_.bytes.size()) * static_cast<double>(loose_.piece_bytes));
  for (const auto& [block, used] : used_) {
    context.check_cancelled();
    if (!expected.is_open(block)) continue;
    for (const Stretch& stretch : stretches(block, used)) {
      const Seen& of = seen.at(stretch.used ? 1 : 0);
      const double share = of.data / of.all;
      expected.add({stretch.sector, kSector},
                   stretch.used ? "data where files lie" : "nothing where no file lies",
                   [data = bits(share, by_chance), zero = bits(1 - share, 1 - by_chance)](
                       ByteView bytes) { return all_zero(bytes) ? zero : data; });
    }
  }
}

}  // namespace lantern
