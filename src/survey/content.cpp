#include "survey/content.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

#include "base/bytes.h"
#include "base/kinds/content_kind.h"

namespace lantern::survey_parts {
namespace {

constexpr std::uint64_t kSamples = 64;
constexpr std::size_t kSampleBytes = 16384;
constexpr std::size_t kMinCounted = 65536;  // bytes: fewer say nothing of their order
// Bits a byte, of 8. Compressed and encrypted data are above it, programs and documents below.
constexpr double kRandomEntropy = 7.99;

using Counts = std::array<std::uint64_t, 256>;

double entropy(const Counts& counts, std::uint64_t total) {
  double bits = 0;
  for (const std::uint64_t count : counts) {
    if (count == 0) continue;
    const double share = static_cast<double>(count) / static_cast<double>(total);
    bits -= share * std::log2(share);
  }
  return bits;
}

// No control characters but those of lines.
bool is_plain(const Counts& counts) {
  for (std::size_t i = 0; i < 0x20; ++i)
    if (counts.at(i) > 0 && i != '\n' && i != '\r' && i != '\t') return false;
  return true;
}

}  // namespace

BytesNature nature_of(const ByteSource& source, const Context& context) {
  Bytes piece(kSampleBytes);
  Counts counts{};
  std::uint64_t total = 0;
  bool all_zeros = true;
  std::string_view kind;
  const std::uint64_t step = std::max<std::uint64_t>(source.size() / kSamples, kSampleBytes);
  for (std::uint64_t at = 0; at < source.size(); at += step) {
    context.check_cancelled();
    const ReadResult got = source.read(at, piece);
    // What cannot be read is not known.
    if (!got.unreadable.empty()) return {};
    const ByteView bytes = ByteView(piece).first(got.length);
    if (at == 0) kind = content_kind(bytes.first(std::min(bytes.size(), kKindBytes)));
    for (const std::byte one : bytes) ++counts.at(std::to_integer<std::size_t>(one));
    total += bytes.size();
    all_zeros = counts[0] == total;
  }
  if (total == source.size() && all_zeros) return {Nature::zeros, "only zeros"};
  if (all_zeros) return {Nature::zeros, std::string(kZerosSeen)};
  if (!kind.empty() && is_plain(counts)) return {Nature::text, fmt::format("text ({})", kind)};
  if (!kind.empty() && kind != "txt")
    return {Nature::file, fmt::format("begins as a file ({})", kind)};
  if (total >= kMinCounted && entropy(counts, total) >= kRandomEntropy)
    return {Nature::random, "random data"};
  return {};
}

}  // namespace lantern::survey_parts
