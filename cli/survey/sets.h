// Arrays and groups in a survey, as a tree.
#pragma once

#include "cli/commands.h"

namespace lantern::cli {

void print_sets(const Job& job, const SurveyReport& report);

}  // namespace lantern::cli
