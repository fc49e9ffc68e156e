#include "lantern/error.h"

#include <fmt/format.h>

namespace lantern {
namespace {

std::string one_line(const std::string& address, std::optional<std::uint64_t> offset,
                     const std::string& what, const std::string& next_step) {
  std::string line = address.empty() ? what : fmt::format("{}: {}", address, what);
  if (offset) line += fmt::format(" (at byte {})", *offset);
  if (!next_step.empty()) line += "; " + next_step;
  return line;
}

}  // namespace

Error::Error(ErrorCode code, std::string address, std::optional<std::uint64_t> offset,
             const std::string& what, std::string next_step)
    : std::runtime_error(one_line(address, offset, what, next_step)),
      code_(code),
      address_(std::move(address)),
      offset_(offset),
      next_step_(std::move(next_step)) {}

}  // namespace lantern
