// What the sectors that a pass found say of the volumes of the disk.
//
// Thread-safety: a pure function of what it reads.
#pragma once

#include <vector>

#include "lantern/sweep.h"
#include "recover/sweep/finders/volume_finder.h"

namespace lantern {

// Also looks where volumes usually begin and end. Throws Error{stopped}.
VolumeSearch volumes_by_hits(const SourcePtr& disk, const VolumeTable& table,
                             const std::vector<SectorHit>& hits, const Context& context);

}  // namespace lantern
