// Loops that try every place of something: under the sanitizers, which are slow, only some of them.
#pragma once

#include <cstddef>

namespace lantern::kit {

#if defined(__has_feature)
#if __has_feature(address_sanitizer)
#define LANTERN_THINNED
#endif
#elif defined(__SANITIZE_ADDRESS__)
#define LANTERN_THINNED
#endif

// How far to go on where one step is tried otherwise.
constexpr std::size_t thinned(std::size_t step) {
#ifdef LANTERN_THINNED
  return step * 20;
#else
  return step;
#endif
}

// Which bits of a byte to flip: all of them, or one, another one of each byte.
constexpr bool flips(std::size_t at, int bit) {
  return thinned(1) == 1 || static_cast<std::size_t>(bit) == at % 8;
}

}  // namespace lantern::kit
