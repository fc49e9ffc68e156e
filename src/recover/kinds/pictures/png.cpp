#include <libdeflate.h>

#include "recover/kinds/kinds.h"

namespace lantern::kinds {

Held check_png(KindReader& file) {
  constexpr std::uint64_t kSignature = 8, kAround = 12;  // length, type, checksum
  std::uint64_t at = kSignature;
  for (bool first = true;; first = false) {
    file.check_cancelled();
    if (!file.has(at, kAround)) file.cut(file.size(), "it has no end chunk");
    const std::uint32_t length = file.be32(at);
    if (first && (!file.starts(at + 4, "IHDR") || length != 13))
      file.broken(at, "its first chunk is not a header");
    const bool end = file.starts(at + 4, "IEND");
    for (const std::byte letter : file.view(at + 4, 4)) {
      const auto c = std::to_integer<unsigned>(letter) | 0x20u;
      if (c < 'a' || c > 'z') file.broken(at, "a chunk has an invalid type");
    }
    std::uint32_t sum = 0;
    file.each(at + 4, std::uint64_t{length} + 4,
              [&](ByteView piece) { sum = libdeflate_crc32(sum, piece.data(), piece.size()); });
    if (sum != file.be32(at + 8 + length))
      file.flaw({at, kAround + length}, "a chunk's checksum is wrong");
    else
      file.prove();
    at += kAround + length;
    if (end) return {!file.first_flaw(), at, "the checksum of every chunk is right"};
  }
}

}  // namespace lantern::kinds
