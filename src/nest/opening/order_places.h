// Where loose pieces of a disk belong by the order of the blocks in the file: an inference, made
// where nothing in a piece says more.
#pragma once

#include <set>
#include <vector>

#include "container/expectations.h"
#include "lantern/container.h"

namespace lantern {

// `in_use`: places of blocks without a place in the file that files lie in. Nothing, unless most
// of what has its place is seen to be in order; and nothing against what is expected.
std::vector<PlaceClaim> places_by_order(const LoosePieces& loose, const Expectations& expected,
                                        const std::set<std::uint64_t>& in_use);

}  // namespace lantern
