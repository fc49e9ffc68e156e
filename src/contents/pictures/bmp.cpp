#include "contents/kinds.h"

namespace lantern::kinds {

Held check_bmp(KindReader& file) {
  const std::uint64_t length = file.le32(2), picture = file.le32(10), header = file.le32(14);
  const bool known = header == 12 || header == 40 || header == 52 || header == 56 || header == 64 ||
                     header == 108 || header == 124;
  if (!known || picture < 14 + header || length < picture || file.le32(6) != 0)
    file.broken(2, "its header makes no sense");
  const bool small = header == 12;
  const std::uint64_t width = small ? file.le16(18) : file.le32(18),
                      planes = file.le16(small ? 22 : 26), bits = file.le16(small ? 24 : 28);
  std::uint64_t height = small ? file.le16(20) : file.le32(22);
  if (height > 0x7FFFFFFF) height = 0x100000000 - height;  // from the top
  constexpr std::uint64_t kMaxSide = 1u << 20;
  if (planes != 1 || width == 0 || height == 0 || width > kMaxSide || height > kMaxSide ||
      (bits != 1 && bits != 4 && bits != 8 && bits != 16 && bits != 24 && bits != 32))
    file.broken(18, "its header makes no sense");
  const std::uint64_t packing = small ? 0 : file.le32(30);
  const std::uint64_t rows = (width * bits + 31) / 32 * 4 * height;
  const bool plain = packing == 0 || packing == 3 || packing == 6;
  if (packing > 6 || (plain && length < picture + rows))
    file.broken(2, "its length and the size of its picture differ");
  file.prove();
  if (!file.has(0, length)) file.cut(file.size(), "its picture ends before its end");
  return {false, length, "its header fits; nothing in it checks its picture"};
}

}  // namespace lantern::kinds
