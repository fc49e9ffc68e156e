// Arrays and groups in a survey, as a tree.
#pragma once

#include <string>

#include "cli/commands.h"

namespace lantern::cli {

void print_sets(const Job& job, const SurveyReport& report);

// Whether an address is that of an array or a group's volume, or of something in it.
bool is_in_a_set(const SurveyReport& report, const std::string& address);

}  // namespace lantern::cli
