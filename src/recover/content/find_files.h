// The places of a catalog where files of known kinds may begin, checked one after the other: what
// each is, where it ends, which are alike, and which belong to a file that a volume lists.
//
// Thread-safety: one thread; it uses others.
#pragma once

#include "base/kinds/signatures.h"
#include "catalog/catalog.h"
#include "lantern/sweep.h"

namespace lantern {

// From where an earlier call was stopped. The volumes are listed already; of a part of a disk they
// are not, and each place is told of by itself, what others have to do with it left for later.
// Throws Error{cannot_write, stopped}.
void find_files(const SourcePtr& disk, Catalog& catalog, const Signatures& signatures,
                const SweepOptions& options, const Context& context);

}  // namespace lantern
