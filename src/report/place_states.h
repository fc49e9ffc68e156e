// How each state of a place is shown.
#pragma once

#include <array>
#include <string_view>

namespace lantern {

struct ShownState {
  char sign = '.';
  std::string_view words;
  double red = 0, green = 0, blue = 0;  // 0 to 1
};

// In the order of PlaceState. The colours differ in lightness, too.
inline constexpr std::array<ShownState, 6> kPlaceStates = {{
    {'.', "read", 0.62, 0.80, 0.66},
    {'~', "slow", 0.93, 0.80, 0.36},
    {'?', "suspect", 0.60, 0.42, 0.75},
    {'_', "not tried", 0.90, 0.90, 0.91},
    {'-', "left for later", 0.55, 0.60, 0.68},
    {'X', "unreadable", 0.75, 0.13, 0.16},
}};

}  // namespace lantern
