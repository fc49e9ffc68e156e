// A time as a catalog has it.
//
// Thread-safety: pure functions.
#pragma once

#include <optional>
#include <string>

#include "lantern/timestamp.h"

namespace lantern {

// "SECONDS.NANOSECONDS/RESOLUTION", with an L behind it where the disk says no zone.
std::string print_time(const Timestamp& time);
// Empty: not a valid time.
std::optional<Timestamp> parse_time(const std::string& text);

}  // namespace lantern
