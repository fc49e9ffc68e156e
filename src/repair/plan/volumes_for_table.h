// The volumes that a partition table has to name, as found on the disk, and how far they are
// evidence that there was a table.
//
// Thread-safety: the functions may be called from any thread.
#pragma once

#include <string>

#include "lantern/error.h"
#include "lantern/nest/session.h"
#include "lantern/sweep.h"

namespace lantern::repair {

struct VolumesForTable {
  VolumeSearch found;
  Advice unsearched;  // where volumes may be and were not looked for; else empty
};

// Looks in the usual places; in all of the disk where the table does not explain what lies there
// and reading takes seconds, or when asked to.
VolumesForTable volumes_for_table(const DiskLayer& disk, bool every_sector, const Context& context);

enum class TableEvidence {
  good,
  doubtful,  // something unknown lies before the first volume
  none       // a volume where no partition begins: it may be content of something else
};
// Where nothing is left of a table. `good` where something is.
TableEvidence evidence_of_a_table(const DiskLayer& disk, const VolumeSearch& found,
                                  const Context& context);

}  // namespace lantern::repair
