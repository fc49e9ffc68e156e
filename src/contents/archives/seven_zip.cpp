#include <libdeflate.h>

#include "contents/kinds.h"

namespace lantern::kinds {

Held check_seven_zip(KindReader& file) {
  constexpr std::uint64_t kHeader = 32;
  const auto sum_of = [&](std::uint64_t at, std::uint64_t length) {
    std::uint32_t sum = 0;
    file.each(at, length,
              [&](ByteView piece) { sum = libdeflate_crc32(sum, piece.data(), piece.size()); });
    return sum;
  };
  if (file.le32(8) != sum_of(12, 20)) file.broken(8, "the checksum of its header is wrong");
  file.prove();
  const std::uint64_t offset = file.le64(12), length = file.le64(20);
  if (length == 0) return {false, kHeader, "it is empty"};
  if (offset > file.size() || !file.has(kHeader + offset, length))
    file.cut(file.size(), "the list of its members is past its end");
  if (file.le32(28) != sum_of(kHeader + offset, length))
    file.broken(kHeader + offset, "the checksum of the list of its members is wrong");
  return {false, kHeader + offset + length, "its headers fit; its content is not unpacked"};
}

}  // namespace lantern::kinds
