// A source that takes no writes, and says why.
//
// Thread-safety: as the source's.
#pragma once

#include <string>

#include "lantern/byte_source.h"
#include "lantern/error.h"

namespace lantern {

// Reads as `inner`; a write through it throws Error{refused} with why, and what to do.
SourcePtr without_writes(SourcePtr inner, std::string why, Advice next_step);

}  // namespace lantern
