// Simulated disks: a small JSON file says what disks a computer has, which image stands for each,
// and how it fails (docs/json/simulation.md).
//
//   const auto host = simulated_host("bench.json", this_host());
//
// Thread-safety: as of a host.
#pragma once

#include <memory>
#include <string>

#include "lantern/host.h"

namespace lantern {

// A host whose disks are those of the file, and which is `rest` in all else. Paths in the file are
// relative to its folder. Slow reads take their time. Throws Error{cannot_open, usage}: a file that
// cannot be read, an unknown key, a figure that cannot be.
std::shared_ptr<const Host> simulated_host(const std::string& file,
                                           std::shared_ptr<const Host> rest);

}  // namespace lantern
