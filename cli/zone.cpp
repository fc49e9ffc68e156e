#include "cli/zone.h"

#include <fmt/format.h>

#include <cstdlib>
#include <ctime>
#include <filesystem>
#include <regex>

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

}  // namespace

LocalToUtc zone_of(const std::string& name) {
  if (name.empty()) return by_c_library;
  if (name == "UTC") return [](std::int64_t local) { return local; };
  std::smatch parts;
  if (std::regex_match(name, parts, std::regex("([+-])([0-9]{2}):?([0-9]{2})"))) {
    const int minutes = std::stoi(parts[2]) * 60 + std::stoi(parts[3]);
    const std::int64_t offset = (parts[1] == "-" ? -60 : 60) * minutes;
    return [offset](std::int64_t local) { return local - offset; };
  }
  const bool plain = std::regex_match(name, std::regex("[A-Za-z0-9_+-]+(/[A-Za-z0-9_+-]+)*"));
  std::error_code error;
  if (!plain || !std::filesystem::is_regular_file("/usr/share/zoneinfo/" + name, error))
    throw Error(ErrorCode::usage, {}, std::nullopt,
                fmt::format("the zone \"{}\" is not known here", name),
                "write UTC, +02:00 or Europe/Oslo");
  setenv("TZ", name.c_str(), 1);
  tzset();
  return by_c_library;
}

}  // namespace lantern::cli
