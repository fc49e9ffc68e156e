#include <unistd.h>

#include <cstdlib>
#include <iostream>

#include "cli/app.h"
#include "cli/signals.h"

int main(int argc, char** argv) {
  std::ios::sync_with_stdio(false);
  const bool terminal = isatty(STDOUT_FILENO) == 1;
  const lantern::cli::Streams streams{std::cout, std::cerr, terminal, isatty(STDERR_FILENO) == 1,
                                      terminal && std::getenv("NO_COLOR") == nullptr};
  const int code = lantern::cli::run({argv + 1, argv + argc}, streams, lantern::cli::stop_asked());
  if (std::cout.flush()) return code;
  // What was done is done, and somebody waits for words that did not arrive.
  std::cerr << "lantern: standard output could not be written\n";
  return code == lantern::cli::kDone ? lantern::cli::kDoneWithFindings : code;
}
