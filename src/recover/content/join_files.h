// Files that were found cut, since they lie in several pieces: what follows a piece is looked for
// among what no other file has, and a piece is taken when the content goes on with it.
//
// Thread-safety: one thread.
#pragma once

#include "base/kinds/signatures.h"
#include "catalog/catalog.h"
#include "lantern/sweep.h"

namespace lantern {

// From where an earlier call was stopped. Throws Error{cannot_write, stopped}.
void join_files(const SourcePtr& disk, Catalog& catalog, const Signatures& signatures,
                const SweepOptions& options, const Context& context);

}  // namespace lantern
