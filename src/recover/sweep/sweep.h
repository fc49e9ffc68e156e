// One pass over a disk for any number of finders.
//
// Thread-safety: one thread a sweep.
#pragma once

#include <span>
#include <vector>

#include "base/bytes.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern {

// What a finder is shown. Pieces come in order; each sector is `owned` by one of them.
struct SweptPiece {
  std::uint64_t offset = 0;  // of the bytes on the disk, a multiple of 512
  ByteView bytes;
  std::size_t owned = 0;  // of the bytes: what is behind is shown again, for what begins before it
  const std::vector<Range>& unreadable;  // of the disk, within the bytes: zeros stand for them
};

// Looks at pieces of a disk as they come by; keeps what it saw.
class Finder {
 public:
  Finder() = default;
  Finder(const Finder&) = delete;
  Finder& operator=(const Finder&) = delete;
  virtual ~Finder() = default;
  virtual void look(const SweptPiece& piece) = 0;
};

// The most that a structure reaches behind its first sector, so that it is seen whole.
constexpr std::size_t kLookAhead = 4096;

struct Swept {
  std::uint64_t stopped_at = 0;  // byte; the end of the range when all of it was read
  std::uint64_t read_bytes = 0;
};

// Reads what is stored of `range`, past holes without reading them. Stops at cancel.
Swept sweep(const ByteSource& disk, Range range, std::span<Finder* const> finders,
            const Context& context);

}  // namespace lantern
