#include "recover/placement.h"

#include <algorithm>

namespace lantern {
namespace {

// Goes over the places from the first start on, and gives each to the file that is being written.
// `begin(member)` when one begins, `next()` to say whose the place is (empty: nobody's) and to
// count it.
template <typename Begin, typename Next>
void give_places(const OpenTangle& open, const std::vector<bool>& usable, Placement& placement,
                 Begin begin, Next next) {
  std::size_t at = 0;  // of open.members
  for (std::size_t place = 0; place < open.tangle.places.size(); ++place) {
    if (open.taken[place]) continue;
    const bool first =
        at < open.members.size() && open.tangle.members[open.members[at]].first == place;
    if (first) begin(at++);
    if (!first && !usable.empty() && !usable[place]) continue;
    if (const std::optional<std::size_t> whose = next())
      placement[*whose].push_back(static_cast<std::uint32_t>(place));
  }
}

}  // namespace

Placement in_one_run(const OpenTangle& open) {
  Placement placement(open.members.size());
  for (std::size_t i = 0; i < open.members.size(); ++i) {
    const std::size_t first = open.tangle.members[open.members[i]].first;
    const std::size_t end =
        std::min(first + open.wanted(open.members[i]), open.tangle.places.size());
    for (std::size_t place = first; place < end; ++place)
      placement[i].push_back(open.taken[place] ? kLostPlace : static_cast<std::uint32_t>(place));
  }
  return placement;
}

Placement one_within_another(const OpenTangle& open, const std::vector<bool>& usable) {
  Placement placement(open.members.size());
  std::vector<std::size_t> writing;
  give_places(
      open, usable, placement, [&](std::size_t member) { writing.push_back(member); },
      [&]() -> std::optional<std::size_t> {
        if (writing.empty()) return std::nullopt;
        const std::size_t whose = writing.back();
        // With this place it has all.
        if (placement[whose].size() + 1 == open.wanted(open.members[whose])) writing.pop_back();
        return whose;
      });
  return placement;
}

Placement in_turn(const OpenTangle& open, std::size_t last_turn) {
  std::vector<std::size_t> turns(open.members.size(), last_turn);
  for (std::size_t i = 0; i + 1 < open.members.size(); ++i) {
    const auto from = open.taken.begin() +
                      static_cast<std::ptrdiff_t>(open.tangle.members[open.members[i]].first);
    const auto to = open.taken.begin() +
                    static_cast<std::ptrdiff_t>(open.tangle.members[open.members[i + 1]].first);
    turns[i] = static_cast<std::size_t>(std::count(from, to, false));
  }
  Placement placement(open.members.size());
  std::vector<std::size_t> writing;
  std::size_t now = 0;   // of `writing`
  std::size_t left = 0;  // places of its turn
  give_places(
      open, {}, placement,
      [&](std::size_t member) {
        now = writing.size();
        writing.push_back(member);
        left = turns[member];
      },
      [&]() -> std::optional<std::size_t> {
        if (writing.empty()) return std::nullopt;
        const std::size_t whose = writing[now];
        const bool whole = placement[whose].size() + 1 == open.wanted(open.members[whose]);
        if (whole) writing.erase(writing.begin() + static_cast<std::ptrdiff_t>(now));
        if (!whole && --left > 0) return whose;
        if (!whole) ++now;
        if (writing.empty()) return whose;
        now %= writing.size();
        left = turns[writing[now]];
        return whose;
      });
  return placement;
}

}  // namespace lantern
