#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>
#include <utility>

#include "container/expectations.h"
#include "container/mend.h"
#include "lantern/text.h"

namespace lantern {
namespace {

constexpr std::size_t kPiece = 256u << 10;
constexpr std::size_t kMaxSlots = 1u << 20;
// Each round may place what the next one needs (a table, then what it describes).
// So many only where a round is quick.
constexpr int kRounds = 64, kMoreRounds = 256;
constexpr std::size_t kFewPieces = 4096;
// A map with parts of it replaced.
class PatchedMap final : public BlockMap {
 public:
  PatchedMap(std::shared_ptr<const BlockMap> map, std::map<std::uint64_t, Run> patches)
      : map_(std::move(map)), patches_(std::move(patches)) {}

  std::uint64_t mapped_bytes() const override { return map_->mapped_bytes(); }

  bool runs(Range range, const RunVisitor& visit) const override {
    std::uint64_t at = range.offset;
    while (at < range.end()) {
      const auto after = patches_.upper_bound(at);
      if (after != patches_.begin()) {
        const Run& patch = std::prev(after)->second;
        if (at < patch.range.end()) {
          Run run = patch;
          run.range = intersect(patch.range, {at, range.end() - at});
          run.file_offset += at - patch.range.offset;
          if (!visit(run)) return false;
          at = run.range.end();
          continue;
        }
      }
      const std::uint64_t to =
          after == patches_.end() ? range.end() : std::min(range.end(), after->first);
      if (!map_->runs({at, to - at}, visit)) return false;
      at = to;
    }
    return true;
  }

  std::size_t unpack(ByteView packed, std::span<std::byte> unit) const override {
    return map_->unpack(packed, unit);
  }

 private:
  std::shared_ptr<const BlockMap> map_;
  std::map<std::uint64_t, Run> patches_;  // by where they begin; disjoint
};

SourcePtr unit_source(const SourcePtr& file, const LooseUnit& unit, std::uint64_t unit_bytes) {
  std::vector<Piece> pieces;
  std::uint64_t at = 0;
  for (const LoosePart& part : unit.parts) {
    if (part.within > at) pieces.push_back({ExtentKind::zero, part.within - at, nullptr, 0});
    pieces.push_back({ExtentKind::direct, part.length, file, part.place});
    at = part.within + part.length;
  }
  if (at < unit_bytes) pieces.push_back({ExtentKind::zero, unit_bytes - at, nullptr, 0});
  return make_joined(std::move(pieces));
}

class Placer {
 public:
  Placer(const SourcePtr& file, std::shared_ptr<const BlockMap> map, Placing placing,
         const Surroundings& around, const Context& context)
      : file_(file),
        map_(std::move(map)),
        placing_(std::move(placing)),
        around_(around),
        context_(context),
        quiet_(context) {
    quiet_.findings = std::make_shared<FindingSink>();
    for (const Range& range : placing_.open)
      for (std::uint64_t at = range.offset; at < range.end(); at += placing_.unit_bytes)
        open_.insert(at);
  }

  Placed run() {
    look();
    const int rounds = loose_.bytes.size() <= kFewPieces ? kMoreRounds : kRounds;
    for (int round = 0; round < rounds && place_some(); ++round) {
    }
    place_last();
    report();
    return {placed_, inferred_, patched()};
  }

 private:
  std::map<std::uint64_t, Run> patches() const {
    std::map<std::uint64_t, Run> patches;
    Run lost{never_written() ? Run::Kind::zero : Run::Kind::lost, {}};
    for (const std::uint64_t at : open_) {
      const Range part = intersect({at, placing_.unit_bytes}, {0, placing_.disk_bytes});
      if (!lost.range.empty() && lost.range.end() == at) {
        lost.range.length += part.length;
      } else {
        if (!lost.range.empty()) patches.emplace(lost.range.offset, lost);
        lost.range = part;
      }
    }
    if (!lost.range.empty()) patches.emplace(lost.range.offset, lost);
    for (const auto& [at, unit] : placed_)
      for (const LoosePart& part : placing_.units[unit].parts) {
        Run run{Run::Kind::stored,
                intersect({at + part.within, part.length}, {0, placing_.disk_bytes})};
        run.file_offset = part.place;
        if (!run.range.empty()) patches[run.range.offset] = run;
      }
    return patches;
  }

  std::shared_ptr<const BlockMap> patched() const {
    return std::make_shared<PatchedMap>(map_, patches());
  }

  // Every block of the file has its place: what is open spoke of none.
  bool never_written() const { return placing_.complete && loose_left() == 0; }

  // Shows every sector of every piece to all who can tell, once.
  void look() {
    for (const LooseUnit& unit : placing_.units)
      loose_.bytes.push_back(unit_source(file_, unit, placing_.unit_bytes));
    loose_.placed.resize(placing_.units.size());
    loose_.piece_bytes = placing_.unit_bytes;
    for (const MakePlaceFinder& make : around_.evidence) finders_.push_back(make(loose_, quiet_));
    Bytes bytes(kPiece);
    for (std::size_t piece = 0; piece < loose_.bytes.size(); ++piece)
      for (std::uint64_t at = 0; at < loose_.piece_bytes; at += kPiece) {
        context_.check_cancelled();
        const Range part = intersect({at, kPiece}, {0, loose_.piece_bytes});
        if (known_zero(*loose_.bytes[piece], part)) continue;
        const std::size_t got = loose_.bytes[piece]->read(at, bytes).length;
        for (std::size_t in = 0; in + kSector <= std::min<std::size_t>(got, part.length);
             in += kSector)
          for (const auto& finder : finders_)
            finder->look(piece, at + in, ByteView(bytes).subspan(in, kSector));
      }
  }

  // Asks all who can tell. True when something was placed.
  bool place_some() {
    if (loose_left() == 0 || open_.empty()) return false;
    find_slots();
    const SourcePtr known = make_mapped_disk(
        {file_, patched(), placing_.disk_bytes, std::nullopt, nullptr, false}, quiet_);
    std::vector<PlaceClaim> claims;
    const auto add = [&](std::vector<PlaceClaim> more) {
      claims.insert(claims.end(), more.begin(), more.end());
    };
    Expectations expected(loose_, known, quiet_);
    for (const auto& finder : finders_) add(finder->claims(known, expected));
    add(expected.claims());
    if (take(claims, false)) return true;
    for (const auto& finder : finders_) add(finder->late_claims(known, expected));
    return take(claims, false) || take(claims, true);
  }

  bool take(const std::vector<PlaceClaim>& claims, bool inferred) {
    // What each unit is said to be, and who wants each place.
    std::map<std::size_t, std::map<std::uint64_t, std::string>> said;
    std::map<std::uint64_t, std::set<std::size_t>> wanted;
    for (const PlaceClaim& claim : claims) {
      if (loose_.placed[claim.piece] || claim.inferred != inferred) continue;
      said[claim.piece].emplace(claim.disk_offset, claim.why);
      wanted[claim.disk_offset].insert(claim.piece);
    }
    bool any = false;
    for (const auto& [piece, places] : said) {
      // Evidence for two places is evidence for neither.
      if (places.size() != 1) continue;
      const auto& [offset, why] = *places.begin();
      if (wanted[offset].size() != 1 || !open_.contains(offset)) continue;
      place(piece, offset, why);
      if (inferred) inferred_.insert(offset);
      any = true;
    }
    return any;
  }

  void place(std::size_t unit, std::uint64_t offset, const std::string& why) {
    placed_.emplace(offset, unit);
    open_.erase(offset);
    loose_.placed[unit] = true;
    context_.report(FindingCode::container_rebuilt, Severity::warning,
                    {offset, placing_.unit_bytes},
                    fmt::format("{}: what is at byte {} of the file is in no table that can be "
                                "believed",
                                placing_.format, placing_.units[unit].file.offset),
                    fmt::format("placed at byte {} of the disk: {}", offset, why));
  }

  std::size_t loose_left() const {
    return static_cast<std::size_t>(std::count(loose_.placed.begin(), loose_.placed.end(), false));
  }

  void find_slots() {
    loose_.slots.clear();
    const auto in_parts = [](const LooseUnit& unit) { return unit.parts.size() != 1; };
    if (std::any_of(placing_.units.begin(), placing_.units.end(), in_parts)) return;
    std::vector<std::pair<std::uint64_t, FileSlot>> slots;  // by their byte of the file
    map_->runs({0, std::min(placing_.disk_bytes, map_->mapped_bytes())}, [&](const Run& run) {
      const std::uint64_t unit = placing_.unit_bytes;
      if (run.kind != Run::Kind::stored || run.range.offset % unit != 0) return true;
      for (std::uint64_t in = 0; in < run.range.length && slots.size() < kMaxSlots; in += unit)
        if (!open_.contains(run.range.offset + in) && !placed_.contains(run.range.offset + in))
          slots.push_back({run.file_offset + in, {run.range.offset + in}});
      return true;
    });
    for (const auto& [place, unit] : placed_)
      slots.push_back({placing_.units[unit].parts.front().place, {place}});
    for (std::size_t i = 0; i < placing_.units.size(); ++i)
      if (!loose_.placed[i])
        slots.push_back({placing_.units[i].parts.front().place, {std::nullopt, i}});
    std::sort(slots.begin(), slots.end(),
              [](const auto& a, const auto& b) { return a.first < b.first; });
    for (const auto& [at, slot] : slots) loose_.slots.push_back(slot);
    loose_.neighbours = loose_.in_order = 0;
    for (std::size_t i = 1; i < slots.size(); ++i) {
      const auto &before = slots[i - 1].second.place, &place = slots[i].second.place;
      if (!before || !place) continue;
      ++loose_.neighbours;
      if (*place == *before + placing_.unit_bytes) ++loose_.in_order;
    }
  }

  // One piece and one place left: they belong together.
  void place_last() {
    if (open_.size() != 1 || loose_left() != 1) return;
    std::size_t unit = 0;
    while (loose_.placed[unit]) ++unit;
    inferred_.insert(*open_.begin());
    place(unit, *open_.begin(), "it is the only piece without a place, and this the only place");
  }

  void report() const {
    std::vector<Range> left;
    for (std::size_t i = 0; i < placing_.units.size(); ++i) {
      if (loose_.placed[i]) continue;
      const Range& range = placing_.units[i].file;
      if (!left.empty() && left.back().end() == range.offset)
        left.back().length += range.length;
      else
        left.push_back(range);
    }
    for (const Range& range : left)
      context_.report(
          FindingCode::container_unplaced, Severity::damage, range,
          fmt::format("{}: {} bytes of blocks have no entry, and nothing in them says where "
                      "they belong",
                      placing_.format, range.length),
          "not placed; see ::bytes");
    std::uint64_t lost = 0;
    for (const std::uint64_t at : open_)
      lost += intersect({at, placing_.unit_bytes}, {0, placing_.disk_bytes}).length;
    if (lost > 0 && never_written())
      context_.report(
          FindingCode::container_rebuilt, Severity::warning, {*open_.begin(), placing_.unit_bytes},
          fmt::format("{}: {} bytes of the disk, from byte {} on, have no entry that can be "
                      "believed",
                      placing_.format, lost, *open_.begin()),
          "zero, never written: every block of the file has its place");
    else if (lost > 0)
      context_.report(
          FindingCode::container_table, Severity::damage, {*open_.begin(), placing_.unit_bytes},
          fmt::format("{}: {} bytes of the disk, from byte {} on, have no entry that can be "
                      "believed",
                      placing_.format, lost, *open_.begin()),
          "treated as unreadable");
  }

  const SourcePtr file_;
  const std::shared_ptr<const BlockMap> map_;
  Placing placing_;
  const Surroundings& around_;
  const Context& context_;
  Context quiet_;
  std::set<std::uint64_t> open_;
  std::map<std::uint64_t, std::size_t> placed_;  // place on the disk: unit
  std::set<std::uint64_t> inferred_;             // places
  LoosePieces loose_;
  std::vector<std::unique_ptr<PlaceFinder>> finders_;
};

}  // namespace

Placed place_by_evidence(const SourcePtr& file, std::shared_ptr<const BlockMap> map,
                         Placing placing, const Surroundings& around, const Context& context) {
  return Placer(file, std::move(map), std::move(placing), around, context).run();
}

}  // namespace lantern
