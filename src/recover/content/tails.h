// The ends of files that say how far from their beginnings they lie: the directory of a zip, the
// table of a PDF, the index of a film. Such an end, where it lies on the disk, tells where the last
// piece of a file is.
//
// Thread-safety: a pure function of what it reads.
#pragma once

#include <vector>

#include "base/kinds/signatures.h"
#include "base/range_set.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern {

// What is to be added to a byte of the content to have its place on the disk, modulo 2^64, for each
// end of such a kind in `range` of the disk, what is `taken` left out. `expected`: byte of the
// content at which an index is missing. Throws Error{stopped}.
std::vector<std::uint64_t> tail_shifts(const ByteSource& disk, const SignatureKind& kind,
                                       std::uint64_t expected, Range range, const RangeSet& taken,
                                       const Context& context);

}  // namespace lantern
