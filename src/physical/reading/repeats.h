// Whether a disk gives one place's content for another: a failing one may deliver a sector it read
// before instead of the one it was asked for, without a word. Two places with the same bytes can be
// a copied file as well: what is found is to be asked for again.
//
// Thread-safety: belongs to one thread.
#pragma once

#include <cstdint>
#include <vector>

#include "base/bytes.h"
#include "lantern/range.h"

namespace lantern {

struct Repeat {
  Range range;
  std::uint64_t as_at = 0;  // byte of the disk whose content came
  bool one_sector = false;  // that one again and again
};

class RepeatWatch {
 public:
  // `sector_bytes`: of the disk.
  explicit RepeatWatch(std::uint64_t sector_bytes);

  // What the disk gave from `offset` on, a whole sector's start.
  void saw(std::uint64_t offset, ByteView bytes);
  // Long enough to be told from chance, in the order they came. At most a thousand.
  const std::vector<Repeat>& found();

 private:
  struct Seen {
    std::uint64_t hash = 0;
    std::uint64_t offset = 0;
  };
  void end_run();

  std::uint64_t sector_;
  std::vector<Seen> seen_;  // by hash; a later content replaces an earlier one in its slot
  Repeat run_;
  std::vector<Repeat> found_;
};

}  // namespace lantern
