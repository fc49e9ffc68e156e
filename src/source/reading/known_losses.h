// A copy of a failing disk as what it is: where the disk was not read it has zeros, and they are no
// content.
//
// Thread-safety: as every source.
#pragma once

#include <string>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern {

// `copy` with the ranges that its status, beside it, says were never read as unreadable, and a
// finding that says so; what was written there since, by a repair, is content. The same source when
// there is no status. `path`: of the copy; one that is not finished ends in ".part".
SourcePtr with_known_losses(SourcePtr copy, const std::string& path, const Context& context);

}  // namespace lantern
