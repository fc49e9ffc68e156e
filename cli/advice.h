// What the library advises, as commands and options to type.
#pragma once

#include <string>

#include "lantern/error.h"

namespace lantern::cli {

// "lantern survey disk.vdi", arguments quoted for the shell.
std::string command_for(const Action& action);
std::string advice_text(const Advice& advice);

// What happened, where, and what to do next, in one line.
std::string error_text(const Error& error);

}  // namespace lantern::cli
