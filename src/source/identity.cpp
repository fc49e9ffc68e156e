#include "lantern/sources.h"

#include <algorithm>

#include "base/sha256.h"

namespace lantern {
namespace {

constexpr std::uint64_t kSampleBytes = 64ull * 1024;
constexpr std::uint64_t kSamples = 16;

}  // namespace

Identity identify(const ByteSource& source) {
  Identity identity;
  identity.size_bytes = source.size();
  identity.sector_size = source.logical_sector_size().value_or(0);
  Sha256 hash;
  std::vector<std::byte> sample(kSampleBytes);
  const std::uint64_t last =
      identity.size_bytes > kSampleBytes ? identity.size_bytes - kSampleBytes : 0;
  for (std::uint64_t i = 0; i < kSamples; ++i) {
    // Divided first: the product with a size near 2^64 would wrap.
    const std::uint64_t at = i + 1 == kSamples ? last : last / (kSamples - 1) * i;
    const ReadResult got = source.read(at, sample);
    hash.add(std::span(sample).first(got.length));
  }
  identity.samples_sha256 = hash.finish_hex();
  return identity;
}

IdentityMatch compare(const Identity& before, const Identity& now) {
  if (before.size_bytes != now.size_bytes || before.sector_size != now.sector_size)
    return IdentityMatch::other;
  return before.samples_sha256 == now.samples_sha256 ? IdentityMatch::same : IdentityMatch::changed;
}

}  // namespace lantern
