// Identity: whether a source seen now is the one seen before, without reading all of it.
//
// Thread-safety: pure functions and values.
#pragma once

#include <cstdint>
#include <string>

#include "lantern/byte_source.h"

namespace lantern {

struct Identity {
  std::uint64_t size_bytes = 0;
  std::uint32_t sector_size = 0;  // bytes; 0: the source has none of its own
  std::string samples_sha256;     // of 64 KiB at the start, the end and 14 places between
};

Identity identify(const ByteSource& source);

enum class Sameness { same, changed, other };
// `changed`: as large as before, other content in the samples. `other`: another size.
Sameness compare(const Identity& before, const Identity& now);

}  // namespace lantern
