#include "serve/mount_listing.h"

#include <algorithm>
#include <functional>
#include <limits>
#include <new>
#include <numeric>

namespace lantern {

bool MountListing::may_have(std::string_view name) const {
  return seen_.contains(std::hash<std::string_view>{}(name));
}

void MountListing::add(std::string_view name, EntryKind kind, std::uint64_t node) {
  name = name.substr(0, 255);
  if (names_.size() > std::numeric_limits<std::uint32_t>::max() - name.size())
    throw std::bad_alloc();
  seen_.insert(std::hash<std::string_view>{}(name));
  items_.push_back({node, static_cast<std::uint32_t>(names_.size()),
                    static_cast<std::uint8_t>(name.size()), kind});
  names_ += name;
}

void MountListing::sort() {
  std::unordered_set<std::size_t>().swap(seen_);
  names_.shrink_to_fit();
  items_.shrink_to_fit();
  by_name_.resize(items_.size());
  std::iota(by_name_.begin(), by_name_.end(), 0u);
  std::sort(by_name_.begin(), by_name_.end(),
            [&](std::uint32_t a, std::uint32_t b) { return item(a).name < item(b).name; });
}

MountListing::Item MountListing::item(std::size_t index) const {
  const Placed& placed = items_.at(index);
  return {std::string_view(names_).substr(placed.at, placed.length), placed.kind, placed.node};
}

std::optional<std::size_t> MountListing::find(std::string_view name) const {
  const auto found = std::lower_bound(
      by_name_.begin(), by_name_.end(), name,
      [&](std::uint32_t at, std::string_view than) { return item(at).name < than; });
  if (found == by_name_.end() || item(*found).name != name) return std::nullopt;
  return *found;
}

}  // namespace lantern
