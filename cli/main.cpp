#include <unistd.h>

#include <csignal>
#include <cstdlib>
#include <iostream>

#include "cli/app.h"

namespace {

// Never destroyed: a signal may still come while the process ends.
std::atomic<bool> stop{false};
static_assert(std::atomic<bool>::is_always_lock_free, "set from a signal handler");

}  // namespace

int main(int argc, char** argv) {
  std::ios::sync_with_stdio(false);
  for (const int signal : {SIGINT, SIGTERM, SIGHUP})
    std::signal(signal, [](int) { stop.store(true); });
  const bool terminal = isatty(STDOUT_FILENO) == 1;
  const lantern::cli::Streams streams{std::cout, std::cerr, terminal, isatty(STDERR_FILENO) == 1,
                                      terminal && std::getenv("NO_COLOR") == nullptr};
  const int code = lantern::cli::run({argv + 1, argv + argc}, streams, {&stop, [](const auto*) {}});
  // A result that did not reach its reader is no result.
  return std::cout.flush() ? code : lantern::cli::kRefused;
}
