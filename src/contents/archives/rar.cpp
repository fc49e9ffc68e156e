#include <libdeflate.h>

#include "contents/kinds.h"

namespace lantern::kinds {
namespace {

// A number of seven bits a byte, the lowest first; `at` goes behind it.
std::uint64_t number(KindReader& file, std::uint64_t& at) {
  std::uint64_t value = 0;
  for (unsigned shift = 0; shift < 63; shift += 7) {
    const std::uint64_t byte = file.byte(at++);
    value |= (byte & 0x7Fu) << shift;
    if ((byte & 0x80u) == 0) return value;
  }
  file.broken(at, "a number in it never ends");
}

std::uint32_t sum_of(KindReader& file, std::uint64_t at, std::uint64_t length) {
  std::uint32_t sum = 0;
  file.each(at, length,
            [&](ByteView piece) { sum = libdeflate_crc32(sum, piece.data(), piece.size()); });
  return sum;
}

constexpr std::uint64_t kMaxRarHeader = 2u << 20;

// Version 5: checksum, length, type, flags.
std::uint64_t past_blocks_of_5(KindReader& file, std::uint64_t at) {
  for (;;) {
    file.check_cancelled();
    std::uint64_t place = at + 4;
    const std::uint64_t length = number(file, place);
    if (length == 0 || length > kMaxRarHeader) file.broken(at, "a header has an invalid length");
    const std::uint64_t end = place + length;
    if (file.le32(at) != sum_of(file, at + 4, end - at - 4))
      file.broken(at, "the checksum of a header is wrong");
    file.prove();
    const std::uint64_t type = number(file, place), flags = number(file, place);
    if ((flags & 1u) != 0) number(file, place);
    const std::uint64_t data = (flags & 2u) != 0 ? number(file, place) : 0;
    if (data > file.size() || !file.has(end, data))
      file.cut(file.size(), "its last member ends before its end");
    at = end + data;
    if (type == 5) return at;
  }
}

// Versions 1.5 to 4: half a checksum, type, flags, length.
std::uint64_t past_blocks_of_4(KindReader& file, std::uint64_t at) {
  for (;;) {
    file.check_cancelled();
    if (!file.has(at, 7)) file.cut(file.size(), "it has no end mark");
    const unsigned type = file.byte(at + 2), flags = file.le16(at + 3);
    const std::uint64_t length = file.le16(at + 5);
    if (type < 0x72 || type > 0x7B || length < 7)
      file.broken(at, "no header stands where it should");
    if ((sum_of(file, at + 2, length - 2) & 0xFFFFu) != file.le16(at))
      file.broken(at, "the checksum of a header is wrong");
    file.prove();
    const std::uint64_t data = (flags & 0x8000u) != 0 ? file.le32(at + 7) : 0;
    if (!file.has(at + length, data)) file.cut(file.size(), "its last member ends before its end");
    at += length + data;
    if (type == 0x7B) return at;
  }
}

}  // namespace

// The headers alone: members are packed in a way that no public specification describes.
Held check_rar(KindReader& file) {
  const bool fifth = file.byte(6) == 1;
  const std::uint64_t end = fifth ? past_blocks_of_5(file, 8) : past_blocks_of_4(file, 7);
  return {false, end, "the checksum of every header is right; its content is not unpacked"};
}

}  // namespace lantern::kinds
