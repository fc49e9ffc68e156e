// What bytes are in which no volume is recognised: text, a file of a known kind, zeros, data
// without any order.
//
// Thread-safety: pure functions.
#pragma once

#include <string>
#include <string_view>

#include "lantern/byte_source.h"
#include "lantern/context.h"

namespace lantern::survey_parts {

enum class Nature { unknown, zeros, text, file, random };

struct BytesNature {
  Nature nature = Nature::unknown;
  std::string words;  // "text (txt)", "begins as a file (jpg)"; empty: unknown
};

// Not all of it was looked at.
inline constexpr std::string_view kZerosSeen = "zeros where it was looked at";

// By its start and by samples spread over it: a MiB at most is read.
BytesNature nature_of(const ByteSource& source, const Context& context);

}  // namespace lantern::survey_parts
