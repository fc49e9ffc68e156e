// The write side of a layer: a function that says what must be written below so that bytes stand
// where they should. It writes nothing; write_through lets the writes end up in a scratch.
//
// Thread-safety: translate may be called from any thread; one thread writes at a time.
#pragma once

#include <vector>

#include "base/bytes.h"
#include "lantern/byte_source.h"
#include "lantern/scratch.h"

namespace lantern {

// A write to a source below. `flush_before`: what was written earlier has to be on the medium
// before this, so that a power cut between the two leaves a whole disk.
struct LayerWrite {
  SourcePtr below;
  std::uint64_t offset = 0;
  Bytes bytes;
  bool flush_before = false;
};

struct Translation {
  std::vector<LayerWrite> writes;  // in order
  std::size_t covered = 0;         // bytes they put in place, at least one
  bool placed = false;             // more than these bytes changes: blocks got a place
};

class WritableSource : public ByteSource {
 public:
  // `bytes` lies wholly inside the source and is not empty. Throws Error{unsupported} where this
  // layer takes no writes, with the way round.
  virtual Translation translate(std::uint64_t offset, ByteView bytes) const = 0;
};

// Follows a write down to the files, into the scratch they were opened through. Throws
// Error{unsupported, cannot_write}; then the scratch may hold a part of it. False: blocks got a
// place by it, and what was opened before has to be opened anew.
bool write_through(const SourcePtr& layer, std::uint64_t offset, ByteView bytes,
                   bool flush_before = false);

}  // namespace lantern
