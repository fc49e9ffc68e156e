// The name of a disk that stays the same when the system numbers its disks anew.
//
// Thread-safety: pure but for the system's own folders, which are read.
#pragma once

#include <optional>
#include <string>

namespace lantern {

// Of a block device: its name under /dev/disk/by-id, the longest where there are several (of a
// partition its own). Empty: it has none, or is no block device.
std::string lasting_name(const std::string& path);

// Where the device of a lasting name is now. Empty: it is not connected.
std::optional<std::string> device_of(const std::string& name);

}  // namespace lantern
