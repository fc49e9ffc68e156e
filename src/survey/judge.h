// What a survey means: what is wrong and what is not understood, whose files are where, and what to
// do next.
//
// Thread-safety: one thread.
#pragma once

#include "lantern/survey.h"
#include "survey/content.h"

namespace lantern::survey_parts {

// A finding for a volume, or a disk without a table, in which nothing is recognised. `disk`: empty
// of a volume that spans disks.
void report_unknown(const DiskLayer* disk, const VolumeLayer& volume, const BytesNature& nature,
                    const Context& context);

// Fills in the report all that follows from its volumes and start chains, with their findings.
void judge(SurveyReport& report, const Session& session, const SurveyOptions& options);

}  // namespace lantern::survey_parts
