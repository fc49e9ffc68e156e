// Keys of encrypted volumes, from files and from the terminal.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lantern/lantern.h"

namespace lantern::cli {

// `files`: FILE, or ADDRESS=FILE. Throws Error{cannot_open} for one that cannot be read. `ask`:
// whether the rest is asked for, without showing what is typed.
std::shared_ptr<KeyRing> key_ring(const std::vector<std::string>& files, bool ask);

// A line from the terminal, which does not show it, or from standard input where there is none.
// `what` is needed for `whom`. Empty: nothing was typed.
std::optional<Secret> ask_for(const std::string& whom, const std::string& what);

}  // namespace lantern::cli
