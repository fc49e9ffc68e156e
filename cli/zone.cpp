#include "cli/zone.h"

#include <fmt/format.h>

#include <cstdlib>
#include <ctime>
#include <filesystem>
#include <optional>

#include "lantern/error.h"

namespace lantern::cli {
namespace {

// By the C library's rules for the zone now set: summer time included.
std::int64_t by_c_library(std::int64_t local) {
  const std::time_t as_utc = static_cast<std::time_t>(local);
  std::tm fields{};
  gmtime_r(&as_utc, &fields);
  fields.tm_isdst = -1;
  return mktime(&fields);
}

// "+02:00" in seconds east of UTC.
std::optional<std::int64_t> fixed_offset(const std::string& name) {
  const auto digit = [&](std::size_t i) { return name[i] >= '0' && name[i] <= '9'; };
  if (name.size() != 6 || (name[0] != '+' && name[0] != '-') || name[3] != ':' || !digit(1) ||
      !digit(2) || !digit(4) || !digit(5))
    return std::nullopt;
  const int hours = (name[1] - '0') * 10 + (name[2] - '0');
  const int minutes = (name[4] - '0') * 10 + (name[5] - '0');
  return (name[0] == '-' ? -60 : 60) * (hours * 60 + minutes);
}

// A name of the zone database, and no way out of its folder.
bool is_zone_name(const std::string& name) {
  return name.find("..") == std::string::npos && name.front() != '/' &&
         name.find_first_not_of(
             "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789/_+-") ==
             std::string::npos;
}

}  // namespace

LocalToUtc zone_of(const std::string& name) {
  if (name.empty()) return by_c_library;
  if (name == "UTC") return [](std::int64_t local) { return local; };
  if (const auto offset = fixed_offset(name))
    return [seconds = *offset](std::int64_t local) { return local - seconds; };
  std::error_code error;
  if (!is_zone_name(name) ||
      !std::filesystem::is_regular_file("/usr/share/zoneinfo/" + name, error))
    throw Error(ErrorCode::usage, {}, std::nullopt,
                fmt::format("the zone \"{}\" is not known here", name),
                "write UTC, +02:00 or Europe/Oslo");
  setenv("TZ", name.c_str(), 1);
  tzset();
  return by_c_library;
}

}  // namespace lantern::cli
