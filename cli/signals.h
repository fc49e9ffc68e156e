// Signals that ask the command to stop.
#pragma once

#include <atomic>
#include <memory>

namespace lantern::cli {

// Set by the first of SIGINT, SIGTERM and SIGHUP; a second one ends the process at once. They are
// taken as early as a program can, before main.
std::shared_ptr<const std::atomic<bool>> stop_asked();

}  // namespace lantern::cli
