// The order of the entries of one folder in a walk.
//
// Thread-safety: pure functions.
#pragma once

#include <algorithm>
#include <string>
#include <tuple>
#include <vector>

#include "lantern/file_system.h"

namespace lantern {

struct LevelKey {
  std::string name;
  bool is_folder = false;
};

// Sorts what stands for the entries of a folder; of two with one name the first stays the first.
// `key_of` is asked once for each.
template <typename Item, typename KeyOf>
void sort_level(std::vector<Item>& items, WalkOrder order, KeyOf key_of) {
  std::vector<std::pair<LevelKey, std::size_t>> keys;
  keys.reserve(items.size());
  for (std::size_t i = 0; i < items.size(); ++i) keys.emplace_back(key_of(items[i]), i);
  const bool folders_last = order == WalkOrder::by_folder;
  std::sort(keys.begin(), keys.end(), [&](const auto& a, const auto& b) {
    const bool a_late = folders_last && a.first.is_folder;
    const bool b_late = folders_last && b.first.is_folder;
    return std::tie(a_late, a.first.name, a.second) < std::tie(b_late, b.first.name, b.second);
  });
  std::vector<Item> sorted;
  sorted.reserve(items.size());
  for (const auto& [key, index] : keys) sorted.push_back(std::move(items[index]));
  items = std::move(sorted);
}

}  // namespace lantern
