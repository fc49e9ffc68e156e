#include <iostream>

#include "cli/app.h"
#include "cli/signals.h"
#include "cli/terminal.h"

int main(int argc, char** argv) {
  std::ios::sync_with_stdio(false);
  const lantern::cli::Streams streams = lantern::cli::standard_streams();
  const int code = lantern::cli::run({argv + 1, argv + argc}, streams, lantern::cli::stop_asked());
  if (std::cout.flush()) return code;
  // What was done is done, and somebody waits for words that did not arrive.
  std::cerr << "lantern: standard output could not be written\n";
  return code == lantern::cli::kDone ? lantern::cli::kDoneWithFindings : code;
}
