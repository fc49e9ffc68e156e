// Printing the machines of a folder; survey and machines both do.
#pragma once

#include <string>

#include "cli/commands.h"

namespace lantern::cli {

// The host folder FIRST is, or empty.
std::string host_path_of(const Address& address);

void print_machines(const Job& job, const MachineFolder& folder);

}  // namespace lantern::cli
