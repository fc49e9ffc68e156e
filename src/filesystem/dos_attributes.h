// The attribute bits FAT and exFAT share, as letters: read-only, hidden, system, archive.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

namespace lantern {

inline std::string dos_attributes(std::uint16_t bits) {
  constexpr std::string_view kLetters = "rhs  a";
  std::string text;
  for (std::size_t bit = 0; bit < kLetters.size(); ++bit)
    if ((bits >> bit & 1) != 0 && kLetters[bit] != ' ') text += kLetters[bit];
  return text;
}

}  // namespace lantern
