#include "contents/kinds.h"

namespace lantern::kinds {
namespace {

constexpr int kMaxListDepth = 8;

void check_type(KindReader& file, std::uint64_t at) {
  for (const std::byte letter : file.view(at, 4)) {
    const auto c = std::to_integer<unsigned>(letter);
    if (c < 0x20 || c > 0x7E) file.broken(at, "a chunk has an invalid type");
  }
}

// The chunks from `at` on; gives the longest of them that holds no others.
std::uint64_t walk(KindReader& file, std::uint64_t at, std::uint64_t end, int depth) {
  std::uint64_t longest = 0;
  while (at < end) {
    file.check_cancelled();
    if (end - at < 8) file.broken(at, "a chunk has no header");
    check_type(file, at);
    const std::uint64_t length = file.le32(at + 4);
    if (length > end - at - 8) file.broken(at, "a chunk is longer than what holds it");
    const bool list = length >= 4 && depth < kMaxListDepth && file.starts(at, "LIST");
    const std::uint64_t inside = list ? walk(file, at + 12, at + 8 + length, depth + 1) : length;
    longest = std::max(longest, inside);
    at += 8 + length + length % 2;
  }
  return longest;
}

}  // namespace

Held check_riff(KindReader& file) {
  std::uint64_t end = 8 + std::uint64_t{file.le32(4)};
  file.declare(end);
  check_type(file, 12);
  if (end >= 20 && file.le32(16) <= end - 20) file.prove();
  if (end > file.size()) {
    // Its chunks say where it breaks: one that is no chunk comes before the end is missed.
    for (std::uint64_t at = 12; file.has(at, 8); at += 8 + (file.le32(at + 4) + 1) / 2 * 2)
      file.check_cancelled();
    file.cut(file.size(), "its last chunk ends before its end");
  }
  std::uint64_t longest = walk(file, 12, end, 0);
  // A long film goes on in further parts.
  while (file.starts(8, "AVI ") && file.starts(end, "RIFF") && file.starts(end + 8, "AVIX")) {
    const std::uint64_t part = 8 + std::uint64_t{file.le32(end + 4)};
    file.declare(end + part);
    if (!file.has(end, part)) file.cut(file.size(), "its last part ends before its end");
    longest = std::max(longest, walk(file, end + 12, end + part, 0));
    end += part;
  }
  // The last may leave out the byte that fills it up.
  return {false, end, "its chunks fit", longest};
}

}  // namespace lantern::kinds
