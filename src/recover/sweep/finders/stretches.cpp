#include "recover/sweep/finders/stretches.h"

#include <fmt/format.h>

#include <algorithm>

namespace lantern {

void Stretches::add(Range met) {
  if (!all_.empty() && met.offset <= all_.back().end() + gap_)
    all_.back().length = std::max(all_.back().end(), met.end()) - all_.back().offset;
  else if (all_.size() < kMax)
    all_.push_back(met);
  else
    capped_ = true;
}

void Stretches::join(const Stretches& later) {
  for (const Range& stretch : later.all_) add(stretch);
  capped_ = capped_ || later.capped_;
}

void Stretches::load(Database& database, std::uint64_t swept_to) {
  Statement rows = database.prepare(
      fmt::format("SELECT offset, length FROM {} WHERE offset < ? ORDER BY offset", table_));
  rows.bind(1, swept_to);
  while (rows.step()) {
    const Range stretch{rows.number(0), rows.number(1)};
    if (stretch.offset <= swept_to && stretch.length < (std::uint64_t{1} << 62)) add(stretch);
  }
  written_ = all_.size();
}

void Stretches::save(Database& database) {
  Statement add = database.prepare(fmt::format("INSERT OR REPLACE INTO {} VALUES(?, ?)", table_));
  // The last one may have grown.
  for (std::size_t i = written_ - std::min<std::size_t>(written_, 1); i < all_.size(); ++i)
    add.bind(1, all_[i].offset).bind(2, all_[i].length).run();
  written_ = all_.size();
}

}  // namespace lantern
