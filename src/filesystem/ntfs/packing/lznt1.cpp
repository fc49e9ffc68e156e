#include "filesystem/ntfs/packing/lznt1.h"

#include <algorithm>
#include <bit>
#include <cstring>

namespace lantern::ntfs {
namespace {

constexpr std::size_t kChunk = 4096;

// One packed chunk; returns the bytes made. Stops at what cannot be.
std::size_t unpack_chunk(ByteView in, std::span<std::byte> out) {
  const std::byte* from = in.data();
  const std::byte* const end = from + in.size();
  std::byte* const start = out.data();
  std::byte* to = start;
  std::byte* const limit = start + out.size();
  while (from < end && to < limit) {
    unsigned flags = std::to_integer<unsigned>(*from++);
    if (flags == 0 && end - from >= 8 && limit - to >= 8) {
      std::memcpy(to, from, 8);
      from += 8;
      to += 8;
      continue;
    }
    for (int i = 0; i < 8 && from < end && to < limit; ++i, flags >>= 1) {
      if ((flags & 1) == 0) {
        *to++ = *from++;
        continue;
      }
      const auto made = static_cast<std::size_t>(to - start);
      if (end - from < 2 || made == 0) return made;
      const unsigned token = std::to_integer<unsigned>(from[0]) | std::to_integer<unsigned>(from[1])
                                                                      << 8;
      from += 2;
      // Four bits of distance reach sixteen bytes back; each doubling takes one more.
      const auto bits =
          static_cast<unsigned>(std::max(4, static_cast<int>(std::bit_width(made - 1))));
      const std::size_t back = (token >> (16 - bits)) + 1;
      std::size_t length = (token & ((1u << (16 - bits)) - 1)) + 3;
      if (back > made) return made;
      length = std::min(length, static_cast<std::size_t>(limit - to));
      const std::byte* source = to - back;
      if (back >= length) {
        std::memcpy(to, source, length);
        to += length;
      } else {
        for (std::size_t k = 0; k < length; ++k) *to++ = *source++;
      }
    }
  }
  return static_cast<std::size_t>(to - start);
}

}  // namespace

std::size_t unpack_lznt1(ByteView in, std::span<std::byte> out) {
  std::size_t made = 0;
  for (std::size_t at = 0; at + 2 <= in.size() && made < out.size();) {
    const unsigned head = le16(in, at);
    if (head == 0) break;
    const std::size_t length = (head & 0xFFF) + 1;
    if (length > in.size() - at - 2) return made;
    const ByteView chunk = in.subspan(at + 2, length);
    const auto target = out.subspan(made, std::min(kChunk, out.size() - made));
    std::size_t got = 0;
    if ((head & 0x8000) != 0) {
      got = unpack_chunk(chunk, target);
    } else {
      got = std::min(chunk.size(), target.size());
      std::copy_n(chunk.begin(), got, target.begin());
    }
    at += 2 + length;
    made += got;
    // A short chunk ends with zeros, unless it is the last.
    if (got < target.size()) {
      if (at + 2 > in.size() || le16(in, at) == 0) return made;
      const std::span<std::byte> rest = target.subspan(got);
      std::fill(rest.begin(), rest.end(), std::byte{0});
      made += rest.size();
    }
  }
  return made;
}

}  // namespace lantern::ntfs
