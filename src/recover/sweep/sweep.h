// One pass over a disk for any number of finders.
//
// Thread-safety: one thread a sweep.
#pragma once

#include <span>

#include "base/bytes.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern {

// Looks at pieces of a disk as they come by; keeps what it saw.
class Finder {
 public:
  Finder() = default;
  Finder(const Finder&) = delete;
  Finder& operator=(const Finder&) = delete;
  virtual ~Finder() = default;
  // `offset`: of the piece on the disk, a multiple of 512. Pieces come in order and do not overlap.
  virtual void look(std::uint64_t offset, ByteView piece) = 0;
};

struct Swept {
  std::uint64_t stopped_at = 0;  // byte; the end of the range when all of it was read
  std::uint64_t read_bytes = 0;
};

// Reads what is stored of `range`, past holes without reading them. Stops at cancel.
Swept sweep(const ByteSource& disk, Range range, std::span<Finder* const> finders,
            const Context& context);

}  // namespace lantern
