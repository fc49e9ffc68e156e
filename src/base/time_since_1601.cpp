#include "base/time_since_1601.h"

namespace lantern {
namespace {

constexpr std::int64_t kUnitsASecond = 10'000'000;
constexpr std::int64_t kFrom1601To1970 = 11'644'473'600;  // seconds

}  // namespace

std::optional<Timestamp> time_since_1601(std::uint64_t stored) {
  const auto value = static_cast<std::int64_t>(stored);
  if (value == 0) return std::nullopt;
  std::int64_t seconds = value / kUnitsASecond;
  std::int64_t rest = value % kUnitsASecond;
  if (rest < 0) {
    rest += kUnitsASecond;
    --seconds;
  }
  Timestamp time;
  time.seconds = seconds - kFrom1601To1970;
  time.nanoseconds = static_cast<std::uint32_t>(rest * 100);
  time.resolution_ns = 100;
  return time;
}

std::uint64_t stored_since_1601(const Timestamp& time) {
  return static_cast<std::uint64_t>((time.seconds + kFrom1601To1970) * kUnitsASecond +
                                    time.nanoseconds / 100);
}

}  // namespace lantern
