#include "lantern/timestamp.h"

#include <fmt/format.h>

#include <chrono>

namespace lantern {

std::optional<std::int64_t> seconds_of(int year, int month, int day, int hour, int minute,
                                       int second) {
  using namespace std::chrono;
  const year_month_day date{std::chrono::year{year}, std::chrono::month(unsigned(month)),
                            std::chrono::day(unsigned(day))};
  if (month < 1 || day < 1 || !date.ok()) return std::nullopt;
  if (hour < 0 || hour > 23 || minute < 0 || minute > 59 || second < 0 || second > 59)
    return std::nullopt;
  const std::int64_t days = sys_days{date}.time_since_epoch().count();
  return days * 86400 + std::int64_t{hour} * 3600 + std::int64_t{minute} * 60 + second;
}

std::string to_iso8601(const Timestamp& time) {
  using namespace std::chrono;
  const std::int64_t days =
      time.seconds >= 0 ? time.seconds / 86400 : (time.seconds - 86399) / 86400;
  const auto in_day = static_cast<int>(time.seconds - days * 86400);
  const year_month_day date{sys_days{std::chrono::days{days}}};
  std::string text =
      fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:{:02}", int(date.year()), unsigned(date.month()),
                  unsigned(date.day()), in_day / 3600, in_day / 60 % 60, in_day % 60);
  if (time.nanoseconds != 0) {
    std::string fraction = fmt::format("{:09}", time.nanoseconds);
    while (fraction.back() == '0') fraction.pop_back();
    text += "." + fraction;
  }
  if (!time.local) text += "Z";
  return text;
}

}  // namespace lantern
