// A progress line on a terminal: how far, how fast, how long still.
#pragma once

#include <chrono>
#include <iosfwd>
#include <string>

#include "lantern/context.h"

namespace lantern::cli {

// "3 h 05 min", "2 min 10 s", "7 s".
std::string duration_text(double seconds);

class ProgressLine final : public Progress {
 public:
  explicit ProgressLine(std::ostream& out) : out_(out) {}
  // Takes the line off the terminal.
  void clear();
  void update(std::uint64_t done_bytes, std::uint64_t total_bytes, std::string_view what) override;

 private:
  using Steady = std::chrono::steady_clock;
  std::ostream& out_;
  Steady::time_point start_ = Steady::now();
  Steady::time_point shown_{};
};

}  // namespace lantern::cli
