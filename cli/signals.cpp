#include "cli/signals.h"

#include <unistd.h>

#include <csignal>

#include "cli/app.h"

namespace lantern::cli {
namespace {

// Never destroyed: a signal may still come while the process ends.
constinit std::atomic<bool> stop{false};
static_assert(std::atomic<bool>::is_always_lock_free, "set from a signal handler");

void on_signal(int) {
  if (stop.exchange(true)) ::_exit(kStopped);
}

[[gnu::constructor(101)]] void take_signals() {
  for (const int signal : {SIGINT, SIGTERM, SIGHUP}) std::signal(signal, on_signal);
}

}  // namespace

std::shared_ptr<const std::atomic<bool>> stop_asked() {
  return {&stop, [](const auto*) {}};
}

}  // namespace lantern::cli
