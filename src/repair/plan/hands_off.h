// What no repair writes to: anything recognised that the repair does not belong to.
//
// Thread-safety: pure functions.
#pragma once

#include <string>

#include "lantern/nest/session.h"
#include "lantern/repair.h"
#include "lantern/sweep.h"

namespace lantern::repair {

// Why the disk itself is left alone: it is a member of an array or group, encrypted, or a file
// system of a kind that is not read here. Empty: it is not.
std::string why_disk_is_left(const DiskLayer& disk);

// Why a step may not be applied, by where it writes. `found`: volumes of the disk that no table
// names. Empty: nothing is in its way.
std::string why_not_written(const Target& target, const VolumeSearch& found,
                            const RepairStep& step);

// The bytes of the disk that are missing at its end, by the structures in it: a copy that was not
// finished, an image that was cut short. `evidence`: which of them says so.
struct MissingEnd {
  std::uint64_t bytes = 0;  // 0: nothing is missing
  std::string evidence;
};
MissingEnd missing_end(const DiskLayer& disk);

}  // namespace lantern::repair
