#include <array>

#include "contents/kinds.h"

namespace lantern::kinds {
namespace {

constexpr unsigned kMaxCodes = 4096;

// The codes of a picture, counted and not drawn: each stands for so many of its points.
class Codes {
 public:
  Codes(KindReader& file, std::uint64_t at, unsigned bits) : file_(file), at_(at), first_(bits) {
    length_.fill(1);
  }

  // Gives the byte behind its blocks. `points`: how many it has.
  std::uint64_t walk(std::uint64_t points) {
    const unsigned clear = 1u << first_, end = clear + 1;
    std::uint64_t made = 0;
    unsigned next = clear + 2, bits = first_ + 1;
    std::uint32_t before = 0;  // length of what the last code stood for; 0: none since a clear
    for (;;) {
      constexpr std::uint64_t kCost = 16;
      file_.spend(kCost, at_);
      const unsigned code = take(bits);
      if (code == end) break;
      if (code == clear) {
        next = clear + 2;
        bits = first_ + 1;
        before = 0;
        continue;
      }
      if (code > next || (code == next && before == 0))
        file_.broken(at_, "a code of its picture is invalid");
      const std::uint32_t now = code == next ? before + 1 : length_[code];
      if (before > 0 && next < kMaxCodes) {
        length_[next] = before + 1;
        if (++next == 1u << bits && bits < 12) ++bits;
      }
      before = now;
      made += now;
      if (made > points) file_.broken(at_, "its picture has more points than it says");
    }
    // Some writers stop a little early, where nothing but background is left.
    if (made < points) file_.broken(at_, "its picture has fewer points than it says");
    if (left_ > 0 || block_ > 0) at_ += block_;
    if (file_.byte(at_) != 0) file_.broken(at_, "its blocks go on where its picture ends");
    return at_ + 1;
  }

 private:
  unsigned take(unsigned count) {
    while (left_ < count) {
      if (block_ == 0) {
        block_ = file_.byte(at_++);
        if (block_ == 0) file_.broken(at_ - 1, "its blocks end before its picture");
      }
      bits_ |= std::uint32_t{file_.byte(at_++)} << left_;
      left_ += 8;
      --block_;
    }
    const unsigned code = bits_ & ((1u << count) - 1);
    bits_ >>= count;
    left_ -= count;
    return code;
  }

  KindReader& file_;
  std::uint64_t at_;
  unsigned first_;
  std::uint32_t bits_ = 0;
  unsigned left_ = 0, block_ = 0;
  std::array<std::uint32_t, kMaxCodes> length_{};
};

std::uint64_t past_blocks(KindReader& file, std::uint64_t at) {
  for (;;) {
    file.check_cancelled();
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
  file.prove();
  std::uint64_t at = 13 + colours(file.byte(10));
  bool picture = false;
  for (;;) {
    file.check_cancelled();
    if (!file.has(at, 1)) file.cut(file.size(), "it has no end mark");
    const unsigned what = file.byte(at);
    if (what == kTrailer && picture)
      return {false, at + 1, "every code of its pictures is valid, to the end mark", 768};
    if (what == kExtension) {
      at = past_blocks(file, at + 2);
    } else if (what == kImage) {
      const std::uint64_t points = std::uint64_t{file.le16(at + 5)} * file.le16(at + 7);
      at += 10 + colours(file.byte(at + 9));
      const unsigned code_bits = file.byte(at);
      if (code_bits < 1 || code_bits > 11) file.broken(at, "a picture has invalid codes");
      at = Codes(file, at + 1, code_bits).walk(points);
      picture = true;
    } else {
      file.broken(at, "a block is of no known kind");
    }
  }
}

}  // namespace lantern::kinds
