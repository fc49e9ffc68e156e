// A source that a caller hands in is there.
#pragma once

#include "lantern/byte_source.h"
#include "lantern/error.h"

namespace lantern {

// Throws Error{usage} for an empty pointer.
inline SourcePtr given(SourcePtr source) {
  if (!source)
    throw Error(ErrorCode::usage, {}, std::nullopt, "no byte source is given",
                "open one with open_file_source");
  return source;
}

}  // namespace lantern
