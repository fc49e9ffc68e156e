// What is handed over with something that is served: lines for each system, and when it ends.
#pragma once

#include <functional>
#include <iosfwd>
#include <optional>
#include <string>
#include <vector>

#include "cli/commands.h"

namespace lantern::cli {

struct HandOver {
  std::string system, how;
};
void print_lines(std::ostream& out, const std::vector<HandOver>& lines);
// The member "lines" of a JSON object.
void lines_json(JsonWriter& json, const std::vector<HandOver>& lines);
// Who can reach it, and how it is ended.
void print_end(std::ostream& out, const std::string& place);
std::string end_text(std::optional<std::int64_t> until);

// Where others find a server that listens on all addresses of this computer: its first one in a
// network. Of every other place the place itself.
std::string reached_at(const std::string& place);

// Appends to CASE/access.log: when, and what is told. Empty: there is no case.
std::function<void(const std::string&)> access_log(const Job& job, const std::string& folder);

}  // namespace lantern::cli
