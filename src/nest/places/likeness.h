// How alike the content is on both sides of a border between two blocks: what goes on there is
// mostly more of the same (a program's code, a text, a packed stream). How much that says is
// learned on the disk itself.
#pragma once

#include <array>
#include <cstdint>
#include <vector>

#include "base/bytes.h"
#include "lantern/byte_source.h"

namespace lantern {

// How often each byte occurs, as what two of them have in common is measured.
using ByteShares = std::array<std::uint8_t, 256>;

// Thread-safety: as that of a value.
class Likeness {
 public:
  static constexpr std::uint64_t kLooked = 2048;  // bytes on each side

  // `inside`: bytes of the disk inside contents that go on there, with as much on both sides.
  // Nothing can be told when there are too few.
  Likeness(const SourcePtr& disk, const std::vector<std::uint64_t>& inside);

  bool tells() const { return !steps_.empty(); }

  static ByteShares shares(const ByteSource& source, std::uint64_t at);

  // How much rarer it is that these meet by chance than inside a content: bits, negative when
  // chance explains it better.
  double weigh(const ByteShares& before, const ByteShares& behind) const;

 private:
  struct Step {
    double from = 0;  // likeness
    double bits = 0;
  };
  std::vector<Step> steps_;  // ascending
};

}  // namespace lantern
