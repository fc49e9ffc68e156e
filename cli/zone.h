// Whose clock the local times of a disk were.
#pragma once

#include <string>

#include "lantern/timestamp.h"

namespace lantern::cli {

// "" this computer's zone, "UTC", "+02:00", "Europe/Oslo". Throws Error{usage}.
LocalToUtc zone_of(const std::string& name);

}  // namespace lantern::cli
