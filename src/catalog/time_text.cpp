#include "catalog/time_text.h"

#include <fmt/format.h>

#include <charconv>

namespace lantern {

std::string print_time(const Timestamp& time) {
  return fmt::format("{}.{:09}/{}{}", time.seconds, time.nanoseconds, time.resolution_ns,
                     time.local ? "L" : "");
}

std::optional<Timestamp> parse_time(const std::string& text) {
  Timestamp time;
  const char* at = text.data();
  const char* const end = at + text.size();
  auto got = std::from_chars(at, end, time.seconds);
  if (got.ec != std::errc() || got.ptr == end || *got.ptr != '.') return std::nullopt;
  got = std::from_chars(got.ptr + 1, end, time.nanoseconds);
  if (got.ec != std::errc() || got.ptr == end || *got.ptr != '/') return std::nullopt;
  got = std::from_chars(got.ptr + 1, end, time.resolution_ns);
  if (got.ec != std::errc()) return std::nullopt;
  time.local = got.ptr != end && *got.ptr == 'L';
  return time;
}

}  // namespace lantern
