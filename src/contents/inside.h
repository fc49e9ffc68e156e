// What a file says of itself: a title or a name, and when it was made.
//
// Thread-safety: pure functions of what they read.
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include "lantern/byte_source.h"
#include "lantern/context.h"
#include "lantern/timestamp.h"

namespace lantern::kinds {

struct Inside {
  std::string title;  // UTF-8; empty: it has none that is read
  std::optional<Timestamp> time;
};

// `check`: of its kind, as signatures have it. Reads little of it; what makes no sense is passed
// over. Throws Error{stopped}.
Inside look_inside(const ByteSource& bytes, std::string_view check, const Context& context);

}  // namespace lantern::kinds
