#include "lantern/volume/spanning.h"

#include <array>

namespace lantern {

std::string_view to_string(MemberState state) {
  constexpr std::array<std::string_view, 9> kNames = {
      "active", "rebuilding", "spare", "journal", "failed", "stale", "twice", "missing", "unknown"};
  return kNames.at(static_cast<std::size_t>(state));
}

std::string_view to_string(SetState state) {
  constexpr std::array<std::string_view, 4> kNames = {"complete", "degraded", "incomplete",
                                                      "unusable"};
  return kNames.at(static_cast<std::size_t>(state));
}

}  // namespace lantern
