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

// Appends to a file, which is made where it is not there, in one write: lines of two programs at
// once do not mix. `mode`: of a new file. Throws Error{cannot_write}, with `next` to do.
void append_line(const std::string& path, const std::string& line, unsigned mode,
                 const std::string& next);

}  // namespace lantern::cli
