#include "source/reading/read_map.h"

#include <algorithm>

namespace lantern {

ReadMap::ReadMap(std::uint64_t size_bytes) : size_(size_bytes) {
  if (size_ > 0) add(0, {size_, ReadState::untried, 0});
}

void ReadMap::add(std::uint64_t at, Held run) {
  runs_[at] = run;
  bytes_.at(index(run.state)) += run.length;
  by_length_.at(index(run.state)).emplace(run.length, at);
}

ReadMap::Runs::iterator ReadMap::take(Runs::iterator run) {
  bytes_.at(index(run->second.state)) -= run->second.length;
  by_length_.at(index(run->second.state)).erase({run->second.length, run->first});
  return runs_.erase(run);
}

void ReadMap::split(std::uint64_t at) {
  auto run = runs_.upper_bound(at);
  if (at == 0 || at >= size_ || run == runs_.begin()) return;
  --run;
  if (run->first == at) return;
  const auto [from, held] = *run;
  take(run);
  add(from, {at - from, held.state, held.tries});
  add(at, {held.length - (at - from), held.state, held.tries});
}

void ReadMap::set(Range range, ReadState state, unsigned tries) {
  const auto is_same = [&](const Held& run) { return run.state == state && run.tries == tries; };
  range = intersect(range, {0, size_});
  if (range.empty()) return;
  split(range.offset);
  split(range.end());
  for (auto run = runs_.lower_bound(range.offset); run != runs_.end() && run->first < range.end();)
    run = take(run);
  auto next = runs_.lower_bound(range.end());
  if (next != runs_.end() && is_same(next->second)) {
    range.length += next->second.length;
    next = take(next);
  }
  if (next != runs_.begin())
    if (const auto before = std::prev(next); is_same(before->second)) {
      range = {before->first, range.end() - before->first};
      take(before);
    }
  add(range.offset, {range.length, state, tries});
}

std::vector<ReadMap::Run> ReadMap::runs() const {
  std::vector<Run> all;
  for (const auto& [at, run] : runs_) all.push_back({{at, run.length}, run.state, run.tries});
  return all;
}

std::vector<ReadMap::Run> ReadMap::runs(Range range) const {
  std::vector<Run> all;
  auto run = runs_.upper_bound(range.offset);
  if (run != runs_.begin()) --run;
  for (; run != runs_.end() && run->first < range.end(); ++run)
    if (const Range part = intersect({run->first, run->second.length}, range); !part.empty())
      all.push_back({part, run->second.state, run->second.tries});
  return all;
}

std::optional<Range> ReadMap::largest(ReadState state) const {
  const auto& sorted = by_length_.at(index(state));
  if (sorted.empty()) return std::nullopt;
  return Range{sorted.rbegin()->second, sorted.rbegin()->first};
}

std::optional<Range> ReadMap::next(ReadState state, std::uint64_t from) const {
  auto run = runs_.upper_bound(from);
  if (run != runs_.begin()) --run;
  for (; run != runs_.end(); ++run) {
    const Range whole{run->first, run->second.length};
    if (run->second.state != state || whole.end() <= from) continue;
    const std::uint64_t begin = std::max(whole.offset, from);
    return Range{begin, whole.end() - begin};
  }
  return std::nullopt;
}

std::optional<ReadState> ReadMap::at(std::uint64_t offset) const {
  if (offset >= size_) return std::nullopt;
  return std::prev(runs_.upper_bound(offset))->second.state;
}

}  // namespace lantern
