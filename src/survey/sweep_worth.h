// How long a sweep of a disk would take, and whether it is worth it now.
//
// Thread-safety: one thread.
#pragma once

#include <span>

#include "lantern/survey.h"

namespace lantern::survey_parts {

// `volumes`: those of the disk, counted. Reads a few places of the disk, and a few MiB to see how
// fast that is; of a disk with unreadable ranges nothing.
SurveySweep weigh_sweep(const DiskLayer& disk, std::span<const SurveyVolume> volumes,
                        const Context& context);

}  // namespace lantern::survey_parts
