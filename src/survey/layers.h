// The layers of a disk as rows of a survey.
//
// Thread-safety: one thread.
#pragma once

#include "lantern/survey.h"

namespace lantern::survey_parts {

void add_disk_layers(const DiskLayer& disk, SurveyReport& report);

}  // namespace lantern::survey_parts
