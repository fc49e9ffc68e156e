// Times as counts of 100 ns since 1601-01-01 UTC, as NTFS and what belongs to it keep them.
// Source: [MS-DTYP], FILETIME.
//
// Thread-safety: pure functions.
#pragma once

#include <cstdint>
#include <optional>

#include "lantern/timestamp.h"

namespace lantern {

// Empty for 0: none is told.
std::optional<Timestamp> time_since_1601(std::uint64_t stored);
std::uint64_t stored_since_1601(const Timestamp& time);

}  // namespace lantern
