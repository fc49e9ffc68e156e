// Where loose pieces of a disk belong that lie in a row in the file: where a file lies in as many
// blocks in a row, and what is expected of them fits all of the row.
#pragma once

#include <set>
#include <vector>

#include "container/expectations.h"
#include "lantern/container.h"

namespace lantern {

// Blocks in a row of the disk.
struct BlockRow {
  std::uint64_t first = 0;  // byte of the disk
  std::size_t count = 0;

  auto operator<=>(const BlockRow&) const = default;
};

// `rows`: blocks without a place in the file in which one file lies, or several in a row. An
// inference: that the row was written in one go. Nothing where the order of the file says nothing,
// nor when there were more than `tests` of a piece at a place to do; takes away those it did.
std::vector<PlaceClaim> places_of_runs(const LoosePieces& loose, const Expectations& expected,
                                       const std::set<BlockRow>& rows, std::uint64_t& tests,
                                       const Context& context);

}  // namespace lantern
