// Growing: a disk, the volume on it and the file system in that made larger, as one plan; of a
// volume of a group, or an array, what lies between as well.
//
//   using namespace lantern::repair;
//   GrowOptions how;
//   how.to_bytes = 64ull << 30;
//   const RepairPlan plan = plan_grow(address, how, session);
//   ApplyOptions apply;
//   apply.journal = "disk.undo";
//   apply_repair(plan, steps_of(plan, certain_fixes(plan)), session, apply);
//
// Thread-safety: may be called from any thread, one at a time for one disk.
#pragma once

#include <cstdint>
#include <optional>

#include "lantern/repair.h"

namespace lantern::repair {

struct GrowOptions {
  // Of the disk as a machine sees it, one of the two; neither: it stays, and the volume takes the
  // room that is behind it.
  std::optional<std::uint64_t> to_bytes, by_bytes;
  std::optional<std::uint64_t> volume;  // its number; empty: the likely one
  bool move_swap = false;               // a swap volume right behind it goes to the end of the disk
};

// One fix: the image file, the partition table, the set of disks, the file system, in this order,
// each tried in memory. `source`: a disk or a volume, the volume of a group ("...::lv:GROUP/NAME"),
// or an array, of which each member becomes larger by that. Nothing is proposed for what is
// damaged. Reads only. Throws Error{usage, refused, unsupported} with what to do, and as
// plan_repair.
RepairPlan plan_grow(const Address& source, const GrowOptions& how, const Session& session);

}  // namespace lantern::repair
