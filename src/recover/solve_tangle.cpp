#include "recover/solve_tangle.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <optional>

#include "base/kinds/content_kind.h"
#include "lantern/recover/content_check.h"
#include "lantern/sources.h"
#include "recover/file_copy.h"
#include "recover/placement.h"

namespace lantern {
namespace {

constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kMinBudget = 1ull << 30, kMaxBudget = 4ull << 30;  // bytes
constexpr std::size_t kMaxSkipped = 256;  // places that are passed over to find where one goes on
constexpr std::array<std::size_t, 7> kTurns = {1, 2, 4, 8, 16, 32, 64};
// Bytes behind a gap that do not fit by chance: packed bytes go on for a while where they should
// not.
constexpr std::uint64_t kWellPast = 16u << 10;
constexpr std::size_t kAround = 8;  // places around a break that may be the wrong one

// What a content says of its places.
struct Judged {
  double points = 0;
  bool verified = false;
  bool complete = false;
  bool of_a_kind = false;  // that is checked
  std::uint64_t breaks = 0;
};

enum class Way { alone, within, by_text, in_turn, by_content };

std::string_view words(Way way) {
  switch (way) {
    case Way::alone:
      return "each in one run";
    case Way::within:
      return "one that began was written to its end before another went on";
    case Way::by_text:
      return "text and other bytes are told apart";
    case Way::in_turn:
      return "they were written in turn";
    case Way::by_content:
      return "it goes on where its content fits";
  }
  return {};
}

struct Try {
  Way way = Way::alone;
  Placement placement;
};

class Solver {
 public:
  Solver(const Tangle& tangle, std::uint64_t& budget, const Context& context)
      : tangle_(tangle), budget_of_all_(budget), context_(context), open_{tangle, {}, {}} {
    open_.taken.resize(tangle.places.size());
    places_.resize(tangle.members.size());
    ways_.resize(tangle.members.size(), Way::alone);
    std::uint64_t bytes = 0;
    for (std::size_t i = 0; i < tangle.members.size(); ++i) {
      open_.members.push_back(i);
      bytes += tangle.members[i].size_bytes;
    }
    given_ = std::min(std::clamp(bytes * 64, kMinBudget, kMaxBudget), budget_of_all_);
    budget_ = given_;
  }

  std::map<std::string, Untangled> run() {
    learn_text();
    while (!open_.members.empty()) {
      const std::vector<Try> tries = all_ways();
      std::vector<std::vector<Judged>> judged;
      judged.reserve(tries.size());
      for (const Try& each : tries) judged.push_back(judge(each.placement));
      if (settle_verified(tries, judged)) continue;
      const std::size_t best = best_of(tries, judged);
      if (settle_complete(tries[best], judged[best])) continue;
      if (follow_contents(judged[best])) continue;
      for (std::size_t i = 0; i < open_.members.size(); ++i)
        keep(open_.members[i], tries[best].placement[i], tries[best].way);
      break;
    }
    budget_of_all_ -= given_ - budget_;
    std::map<std::string, Untangled> all;
    for (std::size_t i = 0; i < tangle_.members.size(); ++i)
      all.emplace(tangle_.members[i].id, untangled(i));
    return all;
  }

 private:
  std::uint64_t size_of(std::size_t member) const { return tangle_.members[member].size_bytes; }

  // --- What the places hold ---

  void learn_text() {
    bool any = false, all = true;
    text_.resize(tangle_.places.size());
    Bytes start(kSector);
    for (std::size_t i = 0; i < tangle_.places.size(); ++i) {
      context_.check_cancelled();
      start.resize(kSector);
      start.resize(tangle_.volume->read(tangle_.places[i], start).length);
      while (!start.empty() && start.back() == std::byte{0}) start.pop_back();
      // A place may begin within a character.
      std::size_t cut = 0;
      while (cut < std::min<std::size_t>(3, start.size()) &&
             (std::to_integer<unsigned>(start[cut]) & 0xC0u) == 0x80)
        ++cut;
      text_[i] = is_text(ByteView(start).subspan(cut));
    }
    for (const Tangle::Member& member : tangle_.members) {
      any = any || text_[member.first];
      all = all && text_[member.first];
    }
    mixed_ = any && !all;
  }

  SourcePtr content(std::size_t member, const Places& places) const {
    std::vector<Piece> pieces;
    std::uint64_t left = size_of(member);
    for (const std::uint32_t place : places) {
      const std::uint64_t length = std::min(left, tangle_.place_bytes);
      left -= length;
      const bool lost = place == kLostPlace;
      const std::uint64_t at = lost ? 0 : tangle_.places[place];
      if (!pieces.empty() && (pieces.back().kind == ExtentKind::unreadable) == lost &&
          (lost || pieces.back().from_offset + pieces.back().length == at)) {
        pieces.back().length += length;
        continue;
      }
      pieces.push_back({lost ? ExtentKind::unreadable : ExtentKind::direct, length,
                        lost ? nullptr : tangle_.volume, at});
    }
    if (left > 0) pieces.push_back({ExtentKind::unreadable, left, nullptr, 0});
    return make_joined(std::move(pieces));
  }

  // Systems fill the sector in which a file ends up with zeros.
  double points_of_end(std::size_t member, const Places& places) const {
    const std::uint64_t used = size_of(member) % tangle_.place_bytes;
    const std::uint64_t in_sector = used % kSector;
    if (in_sector == 0 || places.back() == kLostPlace) return 0;
    Bytes sector(kSector);
    const std::uint64_t at = tangle_.places[places.back()] + used - in_sector;
    if (tangle_.volume->read(at, sector).length < sector.size()) return 0;
    const ByteView own = ByteView(sector).first(static_cast<std::size_t>(in_sector));
    if (!all_zero(ByteView(sector).subspan(own.size()))) return -0.5;
    return all_zero(own) ? 0 : own.back() == std::byte{0} ? 0.25 : 0.5;
  }

  double points_of_text(std::size_t member, const Places& places) const {
    if (!text_[tangle_.members[member].first]) return 0;
    const auto others = std::count_if(places.begin(), places.end(), [&](std::uint32_t place) {
      return place == kLostPlace || !text_[place];
    });
    return others == 0 ? 1 : -static_cast<double>(others) / static_cast<double>(places.size());
  }

  Judged judge(std::size_t member, const Places& places) {
    Judged judged;
    if (places.size() < open_.wanted(member)) {
      judged.points = -2;
      return judged;
    }
    judged.points = points_of_end(member, places) + points_of_text(member, places);
    if (budget_ == 0) return judged;
    const ContentCheck check = check_content(*content(member, places), context_);
    budget_ -= std::min(budget_, check.breaks.value_or(size_of(member)) + kSector);
    judged.of_a_kind = !check.kind.empty();
    judged.verified = check.verified;
    judged.complete =
        check.structure == StructureState::complete && check.length_bytes == size_of(member);
    judged.breaks = std::min(check.breaks.value_or(0), size_of(member));
    if (check.verified)
      judged.points += 4;
    else if (judged.complete)
      judged.points += 3;
    else if (judged.of_a_kind)
      judged.points +=
          static_cast<double>(judged.breaks) / static_cast<double>(size_of(member)) - 1;
    return judged;
  }

  std::vector<Judged> judge(const Placement& placement) {
    std::vector<Judged> all;
    for (std::size_t i = 0; i < placement.size(); ++i)
      all.push_back(judge(open_.members[i], placement[i]));
    return all;
  }

  // --- The ways they may lie ---

  std::vector<Try> all_ways() {
    std::vector<Try> tries{{Way::alone, in_one_run(open_)}};
    tries.push_back({Way::within, one_within_another(open_)});
    if (mixed_) tries.push_back({Way::by_text, text_apart()});
    if (open_.members.size() < 2) return tries;
    for (const std::size_t turn : kTurns) {
      Placement placement = in_turn(open_, turn);
      const bool known = std::any_of(tries.begin(), tries.end(),
                                     [&](const Try& each) { return each.placement == placement; });
      if (!known) tries.push_back({Way::in_turn, std::move(placement)});
    }
    return tries;
  }

  Placement text_apart() {
    Placement both(open_.members.size());
    for (const bool text : {false, true}) {
      OpenTangle part{tangle_, {}, open_.taken};
      std::vector<bool> usable(text_.size());
      for (std::size_t place = 0; place < text_.size(); ++place)
        usable[place] = text_[place] == text;
      for (const std::size_t member : open_.members)
        if (text_[tangle_.members[member].first] == text) part.members.push_back(member);
      const Placement placement = one_within_another(part, usable);
      for (std::size_t i = 0, k = 0; i < open_.members.size(); ++i)
        if (text_[tangle_.members[open_.members[i]].first] == text) both[i] = placement[k++];
    }
    return both;
  }

  // Whether their dates say that each was written while another was.
  bool written_at_once() const {
    const auto spans = [&](std::size_t a, std::size_t b) {
      const Tangle::Member& one = tangle_.members[a];
      const Tangle::Member& other = tangle_.members[b];
      return one.created && one.modified && other.created &&
             one.created->seconds <= other.created->seconds &&
             other.created->seconds <= one.modified->seconds + 2;
    };
    const auto& all = open_.members;
    return std::all_of(all.begin(), all.end(), [&](std::size_t a) {
      return std::any_of(all.begin(), all.end(),
                         [&](std::size_t b) { return a != b && (spans(a, b) || spans(b, a)); });
    });
  }

  std::size_t best_of(const std::vector<Try>& tries,
                      const std::vector<std::vector<Judged>>& judged) const {
    const bool at_once = written_at_once();
    std::size_t best = 0;
    double most = 0;
    for (std::size_t i = 0; i < tries.size(); ++i) {
      double points = tries[i].way != Way::alone && at_once ? 0.25 : 0;
      for (const Judged& each : judged[i]) points += each.points;
      if (i > 0 && points <= most) continue;
      most = points;
      best = i;
    }
    return best;
  }

  // --- What is settled ---

  void keep(std::size_t member, const Places& places, Way way) {
    places_[member] = places;
    ways_[member] = way;
  }

  bool free(const Places& places) const {
    return std::all_of(places.begin(), places.end(), [&](std::uint32_t place) {
      return place != kLostPlace && !open_.taken[place];
    });
  }

  void settle(std::size_t member, const Places& places, Way way) {
    keep(member, places, way);
    for (const std::uint32_t place : places) open_.taken[place] = true;
    std::erase(open_.members, member);
    // One whose first place is another's cannot lie among others.
    for (bool again = true; again;) {
      again = false;
      for (std::size_t i = 0; i < open_.members.size(); ++i) {
        const std::size_t other = open_.members[i];
        if (!open_.taken[tangle_.members[other].first]) continue;
        keep(other, in_one_run(open_)[i], Way::alone);
        std::erase(open_.members, other);
        again = true;
        break;
      }
    }
  }

  bool settle_verified(const std::vector<Try>& tries,
                       const std::vector<std::vector<Judged>>& judged) {
    const std::vector<std::size_t> members = open_.members;
    for (std::size_t t = 0; t < tries.size(); ++t)
      for (std::size_t i = 0; i < members.size(); ++i)
        if (judged[t][i].verified && is_open(members[i]) && free(tries[t].placement[i]))
          settle(members[i], tries[t].placement[i], tries[t].way);
    return open_.members.size() < members.size();
  }

  bool settle_complete(const Try& best, const std::vector<Judged>& judged) {
    const std::vector<std::size_t> members = open_.members;
    for (std::size_t i = 0; i < members.size(); ++i)
      if (judged[i].complete && is_open(members[i]) && free(best.placement[i]))
        settle(members[i], best.placement[i], best.way);
    return open_.members.size() < members.size();
  }

  bool is_open(std::size_t member) const {
    return std::find(open_.members.begin(), open_.members.end(), member) != open_.members.end();
  }

  // --- Place by place ---

  // Of the files whose content breaks, one that can be followed from place to place to its end.
  bool follow_contents(const std::vector<Judged>& judged) {
    auto left = std::count_if(judged.begin(), judged.end(),
                              [](const Judged& each) { return each.of_a_kind; });
    for (std::size_t i = 0; i < open_.members.size(); ++i) {
      const std::size_t member = open_.members[i];
      if (!judged[i].of_a_kind) continue;
      // What one takes is not all there is for those behind it.
      const std::uint64_t kept = budget_ - budget_ / static_cast<std::uint64_t>(left--);
      budget_ -= kept;
      const auto places = follow(member);
      budget_ += kept;
      if (places) {
        settle(member, *places, Way::by_content);
        return true;
      }
    }
    return false;
  }

  // The places from its first on that may be its own.
  Places candidates(std::size_t member) const {
    Places all;
    for (std::size_t place = tangle_.members[member].first; place < tangle_.places.size();
         ++place) {
      const bool begins_other =
          std::any_of(open_.members.begin(), open_.members.end(), [&](std::size_t other) {
            return other != member && tangle_.members[other].first == place;
          });
      if (!open_.taken[place] && !begins_other) all.push_back(static_cast<std::uint32_t>(place));
    }
    return all;
  }

  // `kept` of the candidates as they are chosen, then those from `from` on.
  Places go_on(const std::vector<std::size_t>& chosen, std::size_t kept, std::size_t from,
               const Places& all, std::size_t wanted, std::vector<std::size_t>& now) const {
    now.assign(chosen.begin(), chosen.begin() + static_cast<std::ptrdiff_t>(kept));
    for (std::size_t at = from; now.size() < wanted && at < all.size(); ++at) now.push_back(at);
    Places places;
    for (const std::size_t at : now) places.push_back(all[at]);
    return places;
  }

  std::optional<Places> follow(std::size_t member) {
    const Places all = candidates(member);
    const std::size_t wanted = open_.wanted(member);
    std::vector<std::size_t> chosen, now;  // of `all`
    Places places = go_on(chosen, 0, 0, all, wanted, chosen);
    if (places.size() < wanted) return std::nullopt;
    Judged reached = judge(member, places);
    while (!reached.verified && !reached.complete) {
      if (!go_further(member, all, chosen, reached)) return std::nullopt;
    }
    places.clear();
    for (const std::size_t at : chosen) places.push_back(all[at]);
    return places;
  }

  // Passes over some places near the break, so that the content holds further than before. The
  // first way by which it holds well past the gap is taken, else the one by which it holds
  // furthest.
  bool go_further(std::size_t member, const Places& all, std::vector<std::size_t>& chosen,
                  Judged& reached) {
    const auto broken = static_cast<std::size_t>(reached.breaks / tangle_.place_bytes);
    const std::size_t wanted = chosen.size();
    Judged best = reached;
    std::vector<std::size_t> best_chosen, now;
    const auto try_all = [&](std::size_t at) {
      for (std::size_t skipped = 1; skipped <= kMaxSkipped && budget_ > 0; ++skipped) {
        const Places places = go_on(chosen, at, chosen[at] + skipped, all, wanted, now);
        if (places.size() < wanted) return false;
        const Judged judged = judge(member, places);
        const bool fits = judged.verified || judged.complete;
        if (!fits && judged.breaks <= best.breaks) continue;
        best = judged;
        best_chosen = now;
        const std::uint64_t past = std::max(kWellPast, 3 * tangle_.place_bytes);
        if (fits || judged.breaks >= at * tangle_.place_bytes + past) return true;
      }
      return false;
    };
    bool found = false;
    // The nearest to the break first.
    for (std::size_t away = 0; away <= kAround && !found; ++away) {
      if (broken >= away + 1 && broken - away < wanted) found = try_all(broken - away);
      if (!found && away > 0 && broken + away < wanted) found = try_all(broken + away);
    }
    if (best_chosen.empty()) return false;
    reached = best;
    chosen = best_chosen;
    return true;
  }

  // --- What comes out ---

  Untangled untangled(std::size_t member) const {
    const Places& places = places_[member];
    const std::size_t first = tangle_.members[member].first;
    std::size_t same = 0;
    while (same < places.size() && places[same] == first + same) ++same;
    Untangled out;
    if (same == places.size()) return out;
    out.differs_at = same * tangle_.place_bytes;
    out.bytes = content(member, places);
    std::size_t lost = 0;
    for (std::size_t i = 0; i < places.size(); ++i) {
      if (places[i] != kLostPlace) continue;
      ++lost;
      const std::uint64_t at = i * tangle_.place_bytes;
      add_range(out.lost, {at, std::min(tangle_.place_bytes, size_of(member) - at)});
    }
    const std::size_t others = tangle_.members.size() - 1;
    out.evidence = fmt::format("solved together with {} other deleted {}: {}", others,
                               others == 1 ? "file" : "files", words(ways_[member]));
    if (lost > 0)
      out.evidence +=
          fmt::format("; {} of its clusters hold another whose content fits there", lost);
    out.evidence += "; inferred, the disk does not record it";
    return out;
  }

  const Tangle& tangle_;
  std::uint64_t& budget_of_all_;
  Context context_;
  OpenTangle open_;
  std::uint64_t given_ = 0;   // bytes that may be read for this one
  std::uint64_t budget_ = 0;  // of them, bytes to read yet
  std::vector<bool> text_;    // of the places
  bool mixed_ = false;        // some members are text, and some are not
  std::vector<Places> places_;
  std::vector<Way> ways_;
};

}  // namespace

std::map<std::string, Untangled> solve_tangle(const Tangle& tangle, std::uint64_t& budget,
                                              const Context& context) {
  return Solver(tangle, budget, context).run();
}

}  // namespace lantern
