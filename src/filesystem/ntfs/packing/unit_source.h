// UnitSource: bytes kept packed, unit by unit, unpacked when they are asked for and kept in the
// shared cache for a while.
//
// Thread-safety: as ByteSource; `unpack` may be called from any thread at once.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern::ntfs {

struct Units {
  std::uint64_t size_bytes = 0;
  std::uint64_t unit_bytes = 0;
  std::string how;  // what packed them
  // Stretches of whole units that are known to be zero or unreadable, in order; the rest is
  // unpacked. A file may be recorded as far larger than its volume.
  struct Known {
    Range range;
    ExtentKind kind{};
  };
  std::vector<Known> known;
  // Fills `out`, one whole unit or what is left of the last; adds the ranges of the whole that are
  // lost.
  std::function<void(std::uint64_t unit, std::span<std::byte> out, std::vector<Range>& lost)>
      unpack;
};

SourcePtr make_units(Units units, const Context& context);

}  // namespace lantern::ntfs
