// Where bytes of a content lie as they are in a file of this computer: they can be sent from there.
//
// Thread-safety: as the content's.
#pragma once

#include <optional>

#include "lantern/byte_source.h"

namespace lantern::net {

struct Stored {
  int file = -1;  // its descriptor; valid while the content lives
  Range range;    // of the file, bytes
};
// As much as lies in one piece from the first byte of `range` on. Empty: it has to be read.
std::optional<Stored> stored_at(const ByteSource& content, Range range);

}  // namespace lantern::net
