// The case file: what was done to which source, line by line.
#pragma once

#include <string>
#include <utility>
#include <vector>

#include "cli/commands.h"

namespace lantern::cli {

// Appends one JSON line to FOLDER/case.jsonl; nothing when `folder` is empty. `outputs`: path and
// SHA-256. Throws Error{cannot_write, refused}.
void append_to_case(const std::string& folder, const Job& job,
                    const std::vector<std::string>& source_paths,
                    const std::vector<std::pair<std::string, std::string>>& outputs, int exit_code);

}  // namespace lantern::cli
