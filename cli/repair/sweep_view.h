// A sweep under way, on a terminal: how far, what was found so far, and a drawing of the disk that
// fills; or lines of JSON.
#pragma once

#include <chrono>
#include <string>

#include "cli/app.h"
#include "lantern/sweep.h"

namespace lantern::cli {

class SweepView {
 public:
  explicit SweepView(const Streams& streams) : streams_(streams) {}
  // Shows how far a sweep with these options is: as lines of JSON, or where there is a terminal.
  // This must live as long as they do.
  void follow(SweepOptions& options, bool json);
  // Takes what was drawn off the terminal.
  void clear();

 private:
  using Steady = std::chrono::steady_clock;
  void draw(const SweepState& state);       // over what it drew before
  void draw_line(const std::string& text);  // under it
  void print_json(const SweepState& state);
  bool is_due();                               // a line of JSON a second at most
  double rate(const SweepState& state) const;  // bytes a second

  const Streams& streams_;
  Steady::time_point start_ = Steady::now();
  Steady::time_point printed_{};
  std::size_t lines_ = 0;  // drawn
  bool under_ = false;     // a line under them
};

}  // namespace lantern::cli
