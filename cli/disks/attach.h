// What to type, for each hypervisor, to give a machine a mapped disk: alone, no part of snapshots
// and backups, first in the start order.
#pragma once

#include <string>
#include <vector>

#include "lantern/lantern.h"

namespace lantern::cli {

std::vector<std::string> hypervisors();
// Whether it opens the kinds "fullDevice" and "partitionedDevice", and no others for a device.
bool opens_device_extents(const std::string& hypervisor);
// Whether it can present a disk with sectors of another size than 512 bytes.
bool presents_sectors(const std::string& hypervisor);
std::string attach_lines(const DiskMap& map, const std::string& hypervisor);

}  // namespace lantern::cli
