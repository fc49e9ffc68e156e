// Printing the machines of a folder or disk; survey and machines both do.
#pragma once

#include <string>

#include "cli/commands.h"

namespace lantern::cli {

// The host folder FIRST is, or empty.
std::string host_path_of(const Address& address);

// `files`: every file of each.
void print_machines(const Job& job, const MachinesFound& found, const CommonOptions& common,
                    bool files);

}  // namespace lantern::cli
