#include "volume/array/galois.h"

#include <isa-l/erasure_code.h>

#include <algorithm>
#include <array>
#include <cstring>

namespace lantern::array {
namespace {

struct Tables {
  std::array<std::uint8_t, 255> power{};
  std::array<std::uint8_t, 256> log{};
};

const Tables& tables() {
  static const Tables kTables = [] {
    Tables made;
    unsigned value = 1;
    for (unsigned i = 0; i < made.power.size(); ++i) {
      made.power.at(i) = static_cast<std::uint8_t>(value);
      made.log.at(value) = static_cast<std::uint8_t>(i);
      value = value << 1 ^ ((value & 0x80) != 0 ? 0x11Du : 0u);
    }
    return made;
  }();
  return kTables;
}

void add_plain(std::span<std::byte> out, const std::byte* bytes) {
  using Vector = std::uint64_t __attribute__((vector_size(32)));
  std::size_t at = 0;
  for (; at + sizeof(Vector) <= out.size(); at += sizeof(Vector)) {
    Vector sum, term;
    std::memcpy(&sum, out.data() + at, sizeof sum);
    std::memcpy(&term, bytes + at, sizeof term);
    sum ^= term;
    std::memcpy(out.data() + at, &sum, sizeof sum);
  }
  for (; at < out.size(); ++at) out[at] ^= bytes[at];
}

// Without factors a sum is an exclusive or: plain vectors are quicker than the routine's tables. In
// pieces that stay in the nearest cache over all terms.
void sum_plain(const std::vector<Term>& terms, std::span<std::byte> out) {
  constexpr std::size_t kPiece = std::size_t{16} << 10;
  for (std::size_t at = 0; at < out.size(); at += kPiece) {
    const auto part = out.subspan(at, std::min(kPiece, out.size() - at));
    std::fill(part.begin(), part.end(), std::byte{0});
    for (const Term& term : terms) add_plain(part, term.bytes + at);
  }
}

void sum_of_group(const std::vector<Term>& terms, std::span<std::byte> out) {
  constexpr std::size_t kTableBytes = 32;
  std::vector<unsigned char*> buffers;
  std::vector<unsigned char> factors;
  for (const Term& term : terms) {
    // The routine takes pointers to what it only reads without const.
    // NOLINTNEXTLINE(cppcoreguidelines-pro-type-*)
    buffers.push_back(reinterpret_cast<unsigned char*>(const_cast<std::byte*>(term.bytes)));
    factors.push_back(term.factor);
  }
  const auto count = static_cast<int>(buffers.size());
  std::vector<unsigned char> table(kTableBytes * buffers.size());
  ec_init_tables(count, 1, factors.data(), table.data());
  // NOLINTNEXTLINE(cppcoreguidelines-pro-type-reinterpret-cast)
  auto* sum = reinterpret_cast<unsigned char*>(out.data());
  ec_encode_data(static_cast<int>(out.size()), count, 1, table.data(), buffers.data(), &sum);
}

}  // namespace

std::uint8_t power_of_two(std::uint32_t exponent) {
  return tables().power.at(exponent % 255);
}

std::uint8_t multiply(std::uint8_t a, std::uint8_t b) {
  if (a == 0 || b == 0) return 0;
  return power_of_two(std::uint32_t{tables().log.at(a)} + tables().log.at(b));
}

std::uint8_t inverse(std::uint8_t a) {
  return power_of_two(255u - tables().log.at(a));
}

void sum_of(const std::vector<Term>& terms, std::span<std::byte> out) {
  // More terms than the routine takes at once are summed in groups: the sum so far is one of them.
  // It reads the end of a buffer again after it has written there, so that a sum may not be one of
  // its own terms.
  const bool plain =
      std::all_of(terms.begin(), terms.end(), [](const Term& term) { return term.factor == 1; });
  if (plain) return sum_plain(terms, out);
  constexpr std::size_t kMaxTerms = 200;
  constexpr std::size_t kMaxBytes = std::size_t{1} << 20;
  std::vector<std::byte> so_far(terms.size() > kMaxTerms ? std::min(out.size(), kMaxBytes) : 0);
  for (std::size_t at = 0; at < out.size(); at += kMaxBytes) {
    const auto part = out.subspan(at, std::min(kMaxBytes, out.size() - at));
    std::fill(part.begin(), part.end(), std::byte{0});
    for (std::size_t from = 0; from < terms.size(); from += kMaxTerms) {
      std::vector<Term> group(
          terms.begin() + static_cast<std::ptrdiff_t>(from),
          terms.begin() + static_cast<std::ptrdiff_t>(std::min(terms.size(), from + kMaxTerms)));
      for (Term& term : group) term.bytes += at;
      if (from > 0) {
        std::copy(part.begin(), part.end(), so_far.begin());
        group.push_back({so_far.data(), 1});
      }
      sum_of_group(group, part);
    }
  }
}

}  // namespace lantern::array
