#include "recover/content/find_digest.h"

#include <fmt/format.h>

#define XXH_INLINE_ALL
#include <xxhash.h>

#include <algorithm>

#include "base/bytes.h"

namespace lantern {

std::string digest_of(const ByteSource& content) {
  constexpr std::uint64_t kPart = 64u << 10;
  const std::uint64_t part = std::min(kPart, content.size());
  Bytes bytes(static_cast<std::size_t>(part));
  content.read(0, bytes);
  const XXH128_hash_t front = XXH3_128bits(bytes.data(), bytes.size());
  content.read(content.size() - part, bytes);
  const XXH128_hash_t both =
      XXH3_128bits_withSeed(bytes.data(), bytes.size(), front.low64 ^ front.high64);
  return fmt::format("{:016x}{:016x}", both.high64, both.low64);
}

}  // namespace lantern
