// What is between the volumes of a disk: unallocated space, and volumes in it that no entry of the
// table names, by a quick look at the usual places.
//
// Thread-safety: one thread.
#pragma once

#include <vector>

#include "lantern/survey.h"

namespace lantern::survey_parts {

// Volumes whose own first structure fits what is behind it, in space the table gives to no other.
// Where the disk has no table: those that do not begin at its start. Reports each as a finding.
std::vector<VolumePtr> unlisted_volumes(const DiskLayer& disk, const Session& session);

// Parts of a disk with a partition table that no volume is in.
std::vector<SurveySpace> unallocated(const DiskLayer& disk, const std::vector<VolumePtr>& unlisted,
                                     const Context& context);

}  // namespace lantern::survey_parts
