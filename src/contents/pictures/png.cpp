#include <libdeflate.h>

#include "contents/kinds.h"
#include "contents/units.h"

namespace lantern::kinds {

std::uint64_t past_png_chunk(KindReader& file, std::uint64_t at) {
  constexpr std::uint64_t kAround = 12;  // length, type, checksum
  if (!file.has(at, kAround)) file.cut(file.size(), "it has no end chunk");
  const std::uint32_t length = file.be32(at);
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
  return at + kAround + length;
}

Held check_png(KindReader& file) {
  constexpr std::uint64_t kSignature = 8;
  if (!file.starts(kSignature + 4, "IHDR") || file.be32(kSignature) != 13)
    file.broken(kSignature, "its first chunk is not a header");
  for (std::uint64_t at = kSignature;;) {
    file.check_cancelled();
    const bool end = file.starts(at + 4, "IEND");
    at = past_png_chunk(file, at);
    if (end) return {!file.first_flaw(), at, "the checksum of every chunk is right"};
  }
}

}  // namespace lantern::kinds
