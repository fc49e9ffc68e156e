// Which stretch of the mapped disk comes from where.
//
// Thread-safety: pure but for the system's names of devices.
#pragma once

#include <string>

#include "lantern/physical/mapping.h"

namespace lantern {

// The path that the system keeps for a device or partition, "/dev/disk/by-id/...", else an absolute
// one to where it is now.
std::string lasting_path(const std::string& device);

// Fills extents and lasting_path of a map by its disk, partitions, kind and file. `table`: of the
// disk; what lies outside all its partitions is copied where boot code and tables are.
void lay_out(DiskMap& map, const VolumeTable& table);

}  // namespace lantern
