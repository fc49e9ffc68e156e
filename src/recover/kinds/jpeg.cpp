#include <algorithm>

#include "recover/kinds/kinds.h"

namespace lantern::kinds {
namespace {

constexpr unsigned kStart = 0xD8, kEnd = 0xD9, kScan = 0xDA, kRestart = 0xD0;

bool has_length(unsigned marker) {
  return marker >= 0xC0 && marker != 0xFF && !(marker >= 0xD0 && marker <= kEnd);
}

// Past the packed bytes of a scan: the byte of the marker that ends it.
std::uint64_t past_scan(KindReader& file, std::uint64_t at) {
  unsigned next_restart = 0;
  bool first = true;
  for (;;) {
    constexpr std::size_t kPiece = 4096;
    const auto length = static_cast<std::size_t>(
        std::min<std::uint64_t>(kPiece, file.size() - std::min(at, file.size())));
    if (length < 2) file.cut(file.size(), "its last scan has no end");
    const ByteView piece = file.view(at, length);
    for (std::size_t i = 0; i + 1 < piece.size(); ++i) {
      if (piece[i] != std::byte{0xFF}) continue;
      const auto marker = std::to_integer<unsigned>(piece[i + 1]);
      if (marker == 0 || marker == 0xFF) continue;
      if (marker < kRestart || marker > kRestart + 7) return at + i;
      if (!first && marker != kRestart + next_restart)
        file.broken(at + i, "a part of its scan is missing");
      first = false;
      next_restart = (marker - kRestart + 1) % 8;
    }
    at += length - 1;
  }
}

}  // namespace

Held check_jpeg(KindReader& file) {
  std::uint64_t at = 2;
  bool frame = false, scan = false;
  for (;;) {
    file.check_cancelled();
    if (!file.has(at, 2)) file.cut(file.size(), "it has no end mark");
    if (file.byte(at) != 0xFF) file.broken(at, "a segment does not begin where it should");
    const unsigned marker = file.byte(at + 1);
    if (marker == 0xFF) {  // filled up
      ++at;
      continue;
    }
    if (marker == kEnd) {
      if (!frame || !scan) file.broken(at, "it ends before its picture");
      return {false, at + 2, "its segments fit, to the end mark"};
    }
    const bool known = has_length(marker) && marker != kStart;
    if (!known) file.broken(at, "a marker has no place here");
    const std::uint64_t length = file.be16(at + 2);
    if (length < 2) file.broken(at, "a segment has an invalid length");
    if (!file.has(at + 2, length)) file.cut(file.size(), "a segment ends before its end");
    const bool other = marker == 0xC4 || marker == 0xC8 || marker == 0xCC;
    if (marker >= 0xC0 && marker <= 0xCF && !other) frame = true;
    at += 2 + length;
    if (marker != kScan) continue;
    if (!frame) file.broken(at, "a scan comes before its frame");
    scan = true;
    at = past_scan(file, at);
  }
}

}  // namespace lantern::kinds
