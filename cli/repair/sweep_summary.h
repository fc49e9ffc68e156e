// What a sweep, or a merge of its parts, found, as text and as JSON.
//
// Thread-safety: one thread.
#pragma once

#include <string>

#include "cli/commands.h"

namespace lantern::cli {

void print_summary_json(const Job& job, const SweepSummary& done, const std::string& catalog);
void print_summary(const Job& job, const SweepSummary& done, const Address& disk,
                   const std::string& catalog);

}  // namespace lantern::cli
