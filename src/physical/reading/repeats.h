// Whether a disk gives one place's content for another: a failing one may deliver a sector it read
// before instead of the one it was asked for, without a word. Two places with the same bytes can be
// a copied file as well: what is found is to be asked for again.
//
// Thread-safety: belongs to one thread.
#pragma once

#include <cstdint>
#include <optional>
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
  explicit RepeatWatch(std::size_t sector_bytes);

  // At every sector from now on; before at one of eight.
  void watch_closely();
  // What the disk gave from `offset` on, a whole sector's start.
  void saw(std::uint64_t offset, ByteView bytes);
  // Runs that look the same as others, in the order they came, at most a thousand. Whether they are
  // is to be seen in what came.
  const std::vector<Repeat>& found();

 private:
  struct Seen {
    std::uint64_t mark = 0;
    std::uint64_t offset = 0;
  };
  // Empty: a fill pattern.
  void add(std::uint64_t place, std::optional<std::uint64_t> mark);
  void end_run();

  std::size_t sector_, step_;  // bytes
  std::vector<Seen> seen_;     // by mark; a later content replaces an earlier one in its slot
  Repeat run_;
  std::vector<Repeat> found_;
};

}  // namespace lantern
