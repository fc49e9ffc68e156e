// Printing the machines of a folder; survey and machines both do.
#pragma once

#include <memory>
#include <string>

#include "cli/commands.h"

namespace lantern::cli {

// The folder or archive an address leads to; empty when it is neither.
std::shared_ptr<const Neighbours> machine_folder(const Address& address, const OpenOptions& options,
                                                 const Context& context);

// The host folder FIRST is, or empty.
std::string host_path_of(const Address& address);

void print_machines(const Session& session, const MachineFolder& folder);

}  // namespace lantern::cli
