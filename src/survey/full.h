// Volumes with hardly a byte free, and what is in them.
//
// Thread-safety: one thread.
#pragma once

#include "lantern/survey.h"

namespace lantern::survey_parts {

// Of a volume that was counted. Empty: there is room in it, or it is of a kind that is always full.
// Walks the files of one that is full.
std::optional<SurveyFull> full_volume(const SurveyVolume& volume, const Context& context);

}  // namespace lantern::survey_parts
