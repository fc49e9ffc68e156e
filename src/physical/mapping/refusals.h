// What keeps a disk from being given to a machine.
//
// Thread-safety: pure but for what the host says.
#pragma once

#include <string>
#include <vector>

#include "lantern/nest/disks.h"
#include "lantern/volume_table.h"

namespace lantern {

inline const std::string kNamed = "disk:";  // begins the FIRST of a disk by its lasting name

// The disk of an address's FIRST: "disk:NAME", or a path below /dev/disk/by-. Throws
// Error{refused} for a name that another disk may have tomorrow, with one that lasts; as find_disk.
NamedDisk lasting_disk(const std::string& first, const Host& host, const Context& context);

// These throw Error{refused}.
void refuse_own(const NamedDisk& disk);
// `wanted`: partitions; none: all of the disk. What to run to release it is named.
void refuse_used(const NamedDisk& disk, const std::vector<VolumeRow>& wanted);
void refuse_taken(const std::string& path);

}  // namespace lantern
