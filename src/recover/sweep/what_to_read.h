// Parts of a disk that a sweep leaves out.
//
// Thread-safety: pure functions of what they read.
#pragma once

#include <string>

#include "base/range_set.h"
#include "lantern/nest/session.h"

namespace lantern {

// The disk with these left out, shown as not stored, or as zeros. `left_out`: settled.
SourcePtr without(const SourcePtr& disk, const RangeSet& left_out,
                  ExtentKind shown = ExtentKind::unallocated);

// What the volumes of a disk that can be read have in use, in stretches worth leaving out. Throws
// Error{stopped}.
RangeSet in_use_of(const DiskLayer& disk, const Context& context);

// What was read for a catalog, and could be. Throws Error{cannot_open, unsupported}.
RangeSet read_for(const std::string& catalog);

}  // namespace lantern
