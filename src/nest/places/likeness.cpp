#include "nest/places/likeness.h"

#include <algorithm>
#include <cmath>

namespace lantern {
namespace {

constexpr std::size_t kMinBorders = 64;
constexpr double kMinByChance = 8;  // borders beyond the last step
constexpr double kMaxBits = 8;

// 0 to 1: the cosine of the angle between the roots of what is shared.
double likeness(const ByteShares& one, const ByteShares& other) {
  std::uint32_t both = 0, of_one = 0, of_other = 0;
  for (std::size_t i = 0; i < one.size(); ++i) {
    both += std::uint32_t{one[i]} * other[i];
    of_one += std::uint32_t{one[i]} * one[i];
    of_other += std::uint32_t{other[i]} * other[i];
  }
  if (of_one == 0 || of_other == 0) return 0;
  return both / std::sqrt(static_cast<double>(of_one) * of_other);
}

}  // namespace

ByteShares Likeness::shares(const ByteSource& source, std::uint64_t at) {
  std::array<std::byte, kLooked> bytes{};
  source.read(at, bytes);
  std::array<std::uint32_t, 256> counts{};
  for (const std::byte byte : bytes) ++counts[static_cast<std::size_t>(byte)];
  const double scale = 255 / std::sqrt(static_cast<double>(kLooked));
  ByteShares shares{};
  for (std::size_t i = 0; i < shares.size(); ++i)
    shares[i] = static_cast<std::uint8_t>(std::lround(std::sqrt(counts[i]) * scale));
  return shares;
}

Likeness::Likeness(const SourcePtr& disk, const std::vector<std::uint64_t>& inside) {
  if (inside.size() < kMinBorders) return;
  std::vector<ByteShares> before, behind;
  for (const std::uint64_t at : inside) {
    before.push_back(shares(*disk, at - kLooked));
    behind.push_back(shares(*disk, at));
  }
  std::vector<double> going_on, chance;
  const std::size_t count = inside.size();
  for (std::size_t i = 0; i < count; ++i) {
    going_on.push_back(likeness(before[i], behind[i]));
    // Far from each other, so that they are rarely of one file.
    for (const std::size_t part : {3u, 4u, 5u, 7u})
      chance.push_back(likeness(before[i], behind[(i + count / part) % count]));
  }
  std::sort(going_on.begin(), going_on.end());
  std::sort(chance.begin(), chance.end());
  const auto above = [](const std::vector<double>& of, double from) {
    return static_cast<double>(of.end() - std::lower_bound(of.begin(), of.end(), from));
  };
  // Each step is half as common by chance as the one below.
  double from = 0, left = 0.5;
  const double all = static_cast<double>(chance.size());
  for (bool last = false; !last; left /= 2) {
    last = left * all < kMinByChance;
    const double to = last ? 2 : chance[static_cast<std::size_t>(all * (1 - left))];
    const double by_chance = (above(chance, from) - above(chance, to) + 0.5) / (all + 1);
    const double seen = (above(going_on, from) - above(going_on, to) + 0.5) /
                        (static_cast<double>(going_on.size()) + 1);
    steps_.push_back({from, std::clamp(std::log2(seen / by_chance), -kMaxBits, kMaxBits)});
    from = to;
  }
}

double Likeness::weigh(const ByteShares& before, const ByteShares& behind) const {
  const double alike = likeness(before, behind);
  const auto above =
      std::upper_bound(steps_.begin(), steps_.end(), alike,
                       [](double value, const Step& step) { return value < step.from; });
  return above == steps_.begin() ? 0 : std::prev(above)->bits;
}

}  // namespace lantern
