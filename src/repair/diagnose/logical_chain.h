// The chain of logical volumes in an extended one: a record before each, with an entry for it and
// one for the next record.
//
// Thread-safety: one thread.
#pragma once

#include "repair/diagnose/diagnosis.h"
#include "repair/diagnose/mbr_entry.h"

namespace lantern::repair {

// Proposes the chain that leads to every volume found in `extended`, where the one there does not.
void mend_logical_chain(const DiskLayer& disk, const VolumeSearch& found, const MbrEntry& extended,
                        bool lba, Diagnosis& diagnosis);

}  // namespace lantern::repair
