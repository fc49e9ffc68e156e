// One pass over a disk for any number of finders, on all cores: each piece is read and looked at by
// one of them, and what was found in it is joined in the order of the disk.
//
// Thread-safety: one thread a sweep.
#pragma once

#include <memory>
#include <span>
#include <vector>

#include "base/bytes.h"
#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern {

// What a finder is shown. Pieces do not overlap but for what is behind the owned bytes: that is
// shown again, as the next one's own.
struct SweptPiece {
  std::uint64_t offset = 0;  // on the disk, a multiple of 512
  ByteView bytes;
  std::size_t owned = 0;                 // of the bytes
  const std::vector<Range>& unreadable;  // of the disk, within the bytes: zeros stand for them

  std::uint64_t end() const { return offset + owned; }
};

// The most that a structure reaches behind its first sector, so that it is seen whole.
constexpr std::size_t kLookAhead = 4096;

// Looks at pieces of a disk; keeps what it saw.
class Finder {
 public:
  Finder() = default;
  Finder(const Finder&) = delete;
  Finder& operator=(const Finder&) = delete;
  virtual ~Finder() = default;
  // One of its kind that has seen nothing.
  virtual std::unique_ptr<Finder> fresh() const = 0;
  // Pieces come in order.
  virtual void look(const SweptPiece& piece) = 0;
  // Takes what a fresh one saw in the pieces behind all that this one knows.
  virtual void join(Finder& later) = 0;
};

struct Swept {
  std::uint64_t stopped_at = 0;  // byte; the end of the range when all of it was read
  std::uint64_t read_bytes = 0;
};

// Reads what is stored of `range`, past holes without reading them. Stops at cancel. Finders are
// joined on the calling thread.
Swept sweep(const ByteSource& disk, Range range, std::span<Finder* const> finders,
            const Context& context);

}  // namespace lantern
