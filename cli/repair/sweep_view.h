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
  // Over what it drew before.
  void draw(const SweepState& state);
  // Once all was swept: under the drawing, what is listed.
  void draw_checking(std::uint64_t checked_to, std::uint64_t files);
  void print_json_checking(std::uint64_t checked_to, std::uint64_t files);
  void draw_joining(std::uint64_t tried, std::uint64_t all, std::uint64_t joined);
  void print_json_joining(std::uint64_t tried, std::uint64_t all, std::uint64_t joined);
  void draw_listing(const std::string& volume, std::uint64_t entries);
  // Takes the drawing off the terminal.
  void clear();
  // One line of JSON, at most one a second.
  void print_json(const SweepState& state);
  void print_json_listing(const std::string& volume, std::uint64_t entries);

 private:
  using Steady = std::chrono::steady_clock;
  double rate(const SweepState& state) const;  // bytes a second

  const Streams& streams_;
  Steady::time_point start_ = Steady::now();
  Steady::time_point printed_{};
  std::size_t lines_ = 0;  // drawn
};

}  // namespace lantern::cli
