// Who can tell where a loose block of a damaged disk image belongs: every layer that lies in disks.
#pragma once

#include "lantern/container.h"

namespace lantern {

void add_evidence(Surroundings& around);

}  // namespace lantern
