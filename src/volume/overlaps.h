// Volumes of a table that overlap, which every scheme reports alike.
//
// Thread-safety: may be called from any thread.
#pragma once

#include "lantern/volume_table.h"

namespace lantern {

// Each volume that begins within another one before it: a finding. n log n, so that a table of
// thousands of entries is no quadratic work.
void report_overlaps(const VolumeTable& table, FindingCode code, const Context& context);

}  // namespace lantern
