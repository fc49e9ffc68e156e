#include "cli/terminal.h"

#include <sys/ioctl.h>
#include <unistd.h>

#include <charconv>
#include <cstdlib>
#include <iostream>
#include <string_view>

namespace lantern::cli {
namespace {

constexpr std::size_t kMinWidth = 20;

std::string_view environment(const char* name) {
  const char* const value = std::getenv(name);
  return value == nullptr ? std::string_view() : value;
}

std::size_t width_of_output() {
  const std::string_view columns = environment("COLUMNS");
  std::size_t width = 0;
  const auto [end, error] = std::from_chars(columns.data(), columns.data() + columns.size(), width);
  if (error == std::errc() && end == columns.data() + columns.size() && width >= kMinWidth)
    return width;
  winsize size{};
  if (isatty(STDOUT_FILENO) == 1 && ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 &&
      size.ws_col >= kMinWidth)
    return size.ws_col;
  return 0;
}

}  // namespace

Streams standard_streams() {
  const bool out = isatty(STDOUT_FILENO) == 1;
  // A dumb terminal has no colours, and a progress line cannot be written over.
  const bool dumb = environment("TERM") == "dumb";
  const bool err = isatty(STDERR_FILENO) == 1 && !dumb;
  const bool colour = out && !dumb && environment("NO_COLOR").empty();
  return {std::cout, std::cerr, out, err, colour, width_of_output()};
}

}  // namespace lantern::cli
