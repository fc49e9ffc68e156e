// The ends of files that say how far from their beginnings they lie: the directory of a zip, the
// table of a PDF, the index of a film. Such an end, where it lies on the disk, tells where the last
// piece of a file is.
//
// Thread-safety: a pure function of what it reads.
#pragma once

#include <string_view>
#include <vector>

#include "base/bytes.h"
#include "base/range_set.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern {

// A file whose end is looked for.
struct TailOf {
  std::string_view check;        // of its kind
  std::uint64_t start = 0;       // byte of the disk at which it begins
  std::uint64_t breaks = 0;      // byte of it at which something is missing
  std::uint64_t unit = kSector;  // pieces begin at multiples of it
};

// Whether files of such a kind have an end of that sort.
bool has_tail(std::string_view check);

// What is to be added to a byte of the content to have its place on the disk, modulo 2^64, for each
// end of such a kind in `range` of the disk, what is `taken` left out. Throws Error{stopped}.
std::vector<std::uint64_t> tail_shifts(const ByteSource& disk, const TailOf& file, Range range,
                                       const RangeSet& taken, const Context& context);

}  // namespace lantern
