// The names in a folder, in the order they were added: a few bytes more than the names themselves,
// for there may be millions.
//
// Thread-safety: constant once it is sorted.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <unordered_set>
#include <vector>

#include "lantern/file_system.h"

namespace lantern {

class MountListing {
 public:
  struct Item {
    std::string_view name;
    EntryKind kind = EntryKind::file;
    std::uint64_t node = 0;  // number of one that is kept; 0: an entry of a file system
  };

  bool may_have(std::string_view name) const;  // true also, once in 10^9 names, for another name
  // At most 255 bytes.
  void add(std::string_view name, EntryKind kind, std::uint64_t node = 0);
  // Nothing is added any more.
  void sort();

  std::size_t size() const { return items_.size(); }
  Item item(std::size_t index) const;
  std::optional<std::size_t> find(std::string_view name) const;  // once it is sorted

 private:
  struct Placed {
    std::uint64_t node = 0;
    std::uint32_t at = 0;
    std::uint8_t length = 0;
    EntryKind kind{};
  };
  std::string names_;
  std::vector<Placed> items_;
  std::vector<std::uint32_t> by_name_;
  std::unordered_set<std::size_t> seen_;  // hashes, until it is sorted
};

}  // namespace lantern
