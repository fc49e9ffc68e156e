// All files of a machine: which are there, which are damaged, and how they come back together.
//
// Thread-safety: any thread.
#pragma once

#include <set>
#include <string>

#include "recover/machines/machine_folder.h"

namespace lantern {

// Fills `files`, `missing` and `restore` of a machine found in `where`. `other_configs`: addresses
// of the configurations found on the same volume, which tell where one machine's folder ends.
void add_files(FoundMachine& found, const FolderOfMachines& where,
               const std::set<std::string>& other_configs, const Context& context);

}  // namespace lantern
