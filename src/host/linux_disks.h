// The disks of this computer, from what the kernel and the device manager say of them.
//
// Thread-safety: reads the system's own files; any thread.
#pragma once

#include <string>
#include <vector>

#include "lantern/host/disks.h"

namespace lantern {

// Where the system keeps them; tests have a tree of their own.
struct SystemPlaces {
  std::string sys = "/sys";
  std::string proc = "/proc";
  std::string udev = "/run/udev/data";
};

// In the order of their devices' names. Arrays and mapped devices are no disks, nor are those
// without a medium.
std::vector<HostDisk> linux_disks(const SystemPlaces& places = {});

}  // namespace lantern
