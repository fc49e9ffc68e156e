// The command run in process: how it ended and what it printed.
#pragma once

#include <memory>
#include <sstream>
#include <string>
#include <vector>

#include "cli/app.h"

namespace lantern::cli {

struct Ran {
  int code;
  std::string out;
  std::string err;
};

// `width`: columns of the terminal its output goes to; 0: any.
inline Ran lantern(const std::vector<std::string>& arguments, bool colour = false,
                   std::size_t width = 0) {
  std::ostringstream out;
  std::ostringstream err;
  const Streams streams{out, err, colour || width > 0, false, colour, width};
  const int code = run(arguments, streams, std::make_shared<std::atomic<bool>>(false));
  return {code, out.str(), err.str()};
}

}  // namespace lantern::cli
