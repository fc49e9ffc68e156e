// Keys of encrypted volumes, from files and from the terminal.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "lantern/lantern.h"

namespace lantern::cli {

// `files`: FILE, or ADDRESS=FILE. Throws Error{cannot_open} for one that cannot be read. `ask`:
// whether the rest is asked for, without showing what is typed.
std::shared_ptr<KeyRing> key_ring(const std::vector<std::string>& files, bool ask);

}  // namespace lantern::cli
