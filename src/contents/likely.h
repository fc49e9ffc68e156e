// Whether the first bytes of what may be a file of a kind make sense beyond its mark: asked for
// each place where a mark of two or three bytes is met by chance.
//
// Thread-safety: a pure function.
#pragma once

#include <string_view>

#include "base/bytes.h"

namespace lantern::kinds {

// `start`: as much of it as is at hand, 4096 bytes but near the end of a disk. `check`: as
// signatures have it.
bool is_likely(std::string_view check, ByteView start);

}  // namespace lantern::kinds
