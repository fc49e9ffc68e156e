// Where loose pieces of a disk belong by the order of the blocks in the file: an inference, made
// where nothing in a piece says more.
#pragma once

#include <map>
#include <set>
#include <vector>

#include "container/expectations.h"
#include "lantern/container.h"

namespace lantern {

// Blocks without a place in the file that files lie in, by their bytes on the disk; and where a
// file goes on that leaves the block before it is full, or at the end of a row of such blocks.
struct FileBlocks {
  std::set<std::uint64_t> open;
  std::map<std::uint64_t, std::uint64_t> next, previous;

  // Blocks of one file, in its order. Those that have their place are in nobody's way.
  void add(const std::vector<std::uint64_t>& blocks);
};

// Nothing, unless most of what has its place is seen to be in order; and nothing against what is
// expected.
std::vector<PlaceClaim> places_by_order(const LoosePieces& loose, const Expectations& expected,
                                        const FileBlocks& files);

}  // namespace lantern
