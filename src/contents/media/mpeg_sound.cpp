#include <algorithm>

#include "contents/kinds.h"
#include "contents/media/mpeg_frame.h"

namespace lantern::kinds {
namespace {

// What all frames of a file have alike: version, layer, sample rate.
constexpr std::uint32_t kSame = 0xFFFE0C00;

// Past tags at the front; their numbers have seven bits a byte.
std::uint64_t past_tags(KindReader& file) {
  std::uint64_t at = 0;
  while (file.starts(at, "ID3")) {
    file.check_cancelled();
    std::uint64_t length = 0;
    for (std::uint64_t i = 0; i < 4; ++i) {
      const unsigned byte = file.byte(at + 6 + i);
      if (byte > 127) file.broken(at + 6, "its tag has an invalid length");
      length = length << 7 | byte;
    }
    if (file.byte(at + 3) > 4) file.broken(at + 3, "its tag is of no known version");
    at += 10 + length + ((file.byte(at + 5) & 0x10u) != 0 ? 10 : 0);
  }
  if (at > 0) {
    // Zeros that fill up may not be counted in.
    constexpr std::uint64_t kMaxZeros = 4096;
    for (std::uint64_t i = 0; i < kMaxZeros && file.has(at, 1) && file.byte(at) == 0; ++i) ++at;
  }
  return at;
}

std::uint64_t past_tags_behind(KindReader& file, std::uint64_t at) {
  if (file.starts(at, "APETAGEX") && file.has(at, 32)) at += 32 + std::uint64_t{file.le32(at + 12)};
  if (file.starts(at, "TAG") && file.has(at, 128)) at += 128;
  return at;
}

}  // namespace

Held check_mpeg(KindReader& file) {
  std::uint64_t at = past_tags(file);
  const std::uint64_t tags = at;
  if (!file.has(at, 4)) file.cut(file.size(), "it ends before its sound");
  const std::uint32_t first = file.be32(at);
  if (frame_bytes(first) == 0) file.broken(at, "no frame of sound begins where it should");
  // A first frame may say how many there are.
  std::uint64_t said = 0;
  for (const std::uint64_t behind : {13u, 21u, 36u})
    if ((file.starts(at + behind, "Xing") || file.starts(at + behind, "Info")) &&
        (file.byte(at + behind + 7) & 1u) != 0)
      said = std::uint64_t{file.be32(at + behind + 8)} + 1;
  constexpr std::uint64_t kProof = 4;  // frames
  std::uint64_t frames = 0, longest = 0;
  while (file.has(at, 4)) {
    file.check_cancelled();
    const std::uint32_t header = file.be32(at);
    const std::uint64_t length = frame_bytes(header);
    if (length < 5 || (header & kSame) != (first & kSame)) break;
    if (!file.has(at, length)) file.cut(file.size(), "its last frame ends before its end");
    if (++frames == kProof) file.prove();
    longest = std::max(longest, length);
    at += length;
    if (frames == said) break;
  }
  if (frames < kProof) file.broken(at, "its frames of sound break off");
  if (frames < said) file.broken(at, "a frame of sound does not begin where it should");
  const std::uint64_t end = past_tags_behind(file, at);
  constexpr std::uint64_t kMaxTags = 64u << 10;
  // Where it does not say how many frames there are, the last one found need not be its last.
  if (said == 0 && end == at)
    return {false, end, "its frames follow each other; it does not say how many there are"};
  return {false, end, "its frames follow each other to its end", tags > kMaxTags ? tags : longest};
}

}  // namespace lantern::kinds
