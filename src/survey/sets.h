// Arrays and groups as a survey tells them.
//
// Thread-safety: one thread.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "lantern/survey.h"

namespace lantern::survey_parts {

SurveySet describe_set(const SpannedSets::Set& one);

// Of a set that is not put together here; empty: it is one that is.
std::optional<SurveySet> describe_members(const std::string& id,
                                          const std::vector<SetMember>& members);

// The volumes that only an older description of a group has, each as the newest that has it.
std::vector<VolumePtr> removed_volumes(const SpannedSets::Set& one, const Session& session);

// Where the copies of a mirror differ, as a finding: all of a small one is compared, of a large one
// its start and places all over it.
void compare_copies(const SpannedSets::Set& one, const Context& context);

}  // namespace lantern::survey_parts
