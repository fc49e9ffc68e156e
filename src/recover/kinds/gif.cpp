#include "recover/kinds/kinds.h"

namespace lantern::kinds {
namespace {

std::uint64_t past_blocks(KindReader& file, std::uint64_t at) {
  for (;;) {
    const std::uint64_t length = file.byte(at);
    at += 1 + length;
    if (length == 0) return at;
    if (!file.has(at, 1)) file.cut(file.size(), "its blocks end before their end");
  }
}

std::uint64_t colours(unsigned flags) {
  return (flags & 0x80u) != 0 ? std::uint64_t{3} << ((flags & 7u) + 1) : 0;
}

}  // namespace

Held check_gif(KindReader& file) {
  constexpr unsigned kImage = 0x2C, kExtension = 0x21, kTrailer = 0x3B;
  std::uint64_t at = 13 + colours(file.byte(10));
  bool picture = false;
  for (;;) {
    file.check_cancelled();
    if (!file.has(at, 1)) file.cut(file.size(), "it has no end mark");
    const unsigned what = file.byte(at);
    if (what == kTrailer && picture) return {false, at + 1, "its blocks fit, to the end mark"};
    if (what == kExtension) {
      at = past_blocks(file, at + 2);
    } else if (what == kImage) {
      at += 10 + colours(file.byte(at + 9));
      const unsigned code_bits = file.byte(at);
      if (code_bits < 1 || code_bits > 11) file.broken(at, "a picture has invalid codes");
      at = past_blocks(file, at + 1);
      picture = true;
    } else {
      file.broken(at, "a block is of no known kind");
    }
  }
}

}  // namespace lantern::kinds
