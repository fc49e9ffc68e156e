#include "recover/kinds/kinds.h"

namespace lantern::kinds {

Held check_riff(KindReader& file) {
  const std::uint64_t end = 8 + std::uint64_t{file.le32(4)};
  if (end > file.size()) {
    // Its chunks say where it breaks: one that is no chunk comes before the end is missed.
    for (std::uint64_t at = 12; file.has(at, 8); at += 8 + (file.le32(at + 4) + 1) / 2 * 2)
      file.check_cancelled();
    file.cut(file.size(), "its last chunk ends before its end");
  }
  std::uint64_t at = 12;
  while (at < end) {
    file.check_cancelled();
    if (end - at < 8) file.broken(at, "a chunk has no header");
    for (const std::byte letter : file.view(at, 4)) {
      const auto c = std::to_integer<unsigned>(letter);
      if (c < 0x20 || c > 0x7E) file.broken(at, "a chunk has an invalid type");
    }
    const std::uint64_t length = file.le32(at + 4);
    if (length > end - at - 8) file.broken(at, "a chunk is longer than what holds it");
    at += 8 + length + length % 2;
  }
  // The last may leave out the byte that fills it up.
  return {false, end, "its chunks fit"};
}

}  // namespace lantern::kinds
