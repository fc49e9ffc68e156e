#include <libdeflate.h>
#include <zlib.h>

#include <memory>

#include "contents/archives/inflate_stream.h"
#include "contents/kinds.h"

namespace lantern::kinds {
namespace {

// Past a string of the header that ends in a zero byte.
std::uint64_t past_text(KindReader& file, std::uint64_t at) {
  constexpr std::uint64_t kMaxText = 64u << 10;
  for (std::uint64_t end = at; end - at < kMaxText; ++end)
    if (file.byte(end) == 0) return end + 1;
  file.broken(at, "a text in its header never ends");
}

}  // namespace

Held check_gzip(KindReader& file) {
  std::uint64_t at = 0;
  while (at < file.size()) {
    if (at > 0 && !file.starts(at, "\x1F\x8B"))
      return {true, at, "the checksum is right; other bytes follow"};
    if (file.byte(at + 2) != 8) file.broken(at, "its method is not deflate");
    const unsigned flags = file.byte(at + 3);
    if ((flags & 0xE0u) != 0) file.broken(at + 3, "its flags are invalid");
    std::uint64_t data = at + 10;
    if ((flags & 4u) != 0) data += 2 + std::uint64_t{file.le16(data)};
    if ((flags & 8u) != 0) data = past_text(file, data);
    if ((flags & 16u) != 0) data = past_text(file, data);
    if ((flags & 2u) != 0) data += 2;
    const Inflated got = inflate_stream(file, data, file.size() - data);
    file.prove();
    if (file.le32(got.end) != got.crc32)
      file.broken_in({data, got.end - data}, "its checksum is wrong");
    if (file.le32(got.end + 4) != static_cast<std::uint32_t>(got.length))
      file.broken(got.end + 4, "its length is wrong");
    at = got.end + 8;
  }
  return {true, at, "the checksum of its content is right"};
}

}  // namespace lantern::kinds
