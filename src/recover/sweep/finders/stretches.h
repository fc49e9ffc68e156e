// Stretches of a disk in which something was met again and again, and their rows in a catalog.
//
// Thread-safety: one thread.
#pragma once

#include <string_view>
#include <vector>

#include "catalog/database.h"
#include "lantern/range.h"

namespace lantern {

class Stretches {
 public:
  static constexpr std::size_t kMax = 1u << 20;

  // What is met not more than `gap` bytes behind a stretch is of it. `table`: of the catalog.
  Stretches(std::string_view table, std::uint64_t gap) : table_(table), gap_(gap) {}

  // In order.
  void add(Range met);
  void join(const Stretches& later);
  void load(Database& database, std::uint64_t swept_to);
  void save(Database& database);
  const std::vector<Range>& all() const { return all_; }  // bytes of the disk
  bool capped() const { return capped_; }                 // there were more

 private:
  std::string_view table_;
  std::uint64_t gap_;
  std::vector<Range> all_;
  std::size_t written_ = 0;  // of them
  bool capped_ = false;
};

}  // namespace lantern
