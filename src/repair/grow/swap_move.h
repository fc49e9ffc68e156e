// A swap volume that lies behind the one that is to grow, moved to the end of the disk: its place
// in the table, and its head, with its name and id. What was swapped out is of no use to a machine
// that is off.
//
// Thread-safety: pure; reads the disk.
#pragma once

#include "lantern/nest/session.h"
#include "lantern/repair.h"

namespace lantern::repair {

// The next volume behind `volume`, where it is a swap volume; empty pointer: it is another, or
// none.
VolumePtr swap_behind(const DiskLayer& disk, const VolumeLayer& volume);

// No writes: it is at the end already. Throws Error{refused, unsupported}: a machine sleeps in it,
// or other volumes lie behind it or beside it.
RepairStep move_swap(const DiskLayer& disk, const VolumeLayer& swap);

}  // namespace lantern::repair
