// The command: parse, call the library, print. Streams come from outside, so that tests run it in
// process.
#pragma once

#include <atomic>
#include <cstddef>
#include <iosfwd>
#include <memory>
#include <string>
#include <vector>

namespace lantern::cli {

struct Streams {
  std::ostream& out;
  std::ostream& err;
  bool out_is_terminal = false;
  bool err_is_terminal = false;
  bool colour = false;    // of what goes to `out`
  std::size_t width = 0;  // columns of `out`; 0: lines may be as long as they are
};

enum Exit {
  kDone = 0,
  kDoneWithFindings = 1,
  kUsage = 2,
  kCannotRead = 3,
  kRefused = 4,
  kStopped = 5
};

// `arguments` without the program's name. Never throws.
int run(const std::vector<std::string>& arguments, const Streams& streams,
        std::shared_ptr<const std::atomic<bool>> cancel);

}  // namespace lantern::cli
