// The bytes of a stretch of a source, which ends with the source.
//
// Thread-safety: as the source's.
#pragma once

#include "lantern/byte_source.h"

namespace lantern {

// `at` and `length` in bytes; the caller bounds `length`. Unreadable bytes are zeros.
inline Bytes bytes_at(const ByteSource& source, std::uint64_t at, std::uint64_t length) {
  if (at >= source.size()) return {};
  Bytes bytes(static_cast<std::size_t>(length));
  bytes.resize(source.read(at, bytes).length);
  return bytes;
}

}  // namespace lantern
