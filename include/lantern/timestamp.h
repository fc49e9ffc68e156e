// Timestamp: a moment as a file system stores it, with how exact it is and whose clock it was.
//
// Thread-safety: a value.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>

namespace lantern {

struct Timestamp {
  std::int64_t seconds = 0;         // since 1970-01-01 00:00, of UTC or of the local clock
  std::uint32_t nanoseconds = 0;    // 0 to 999'999'999
  std::uint64_t resolution_ns = 1;  // the step of the format: 2 s for a FAT write time
  bool local = false;               // true: the disk says no zone
  friend bool operator==(const Timestamp&, const Timestamp&) = default;
};

// Seconds since 1970 for a calendar date (proleptic Gregorian); empty when there is no such date.
// month 1-12, day 1-31, hour 0-23, minute 0-59, second 0-59.
std::optional<std::int64_t> seconds_of(int year, int month, int day, int hour, int minute,
                                       int second);

// "2026-03-14T08:30:02", with ".12" when there is a fraction the format can hold, "Z" when UTC.
std::string to_iso8601(const Timestamp& time);

// Local seconds to UTC seconds, for times of a disk that says no zone.
using LocalToUtc = std::function<std::int64_t(std::int64_t)>;

}  // namespace lantern
