// UTF-16 as disks keep it, to UTF-8; ends at the first zero unit or the end.
#pragma once

#include <string>

#include "base/bytes.h"
#include "lantern/text.h"

namespace lantern {

inline std::string utf16le_text(ByteView bytes) {
  std::vector<char16_t> units;
  for (std::size_t i = 0; i + 1 < bytes.size() && le16(bytes, i) != 0; i += 2)
    units.push_back(le16(bytes, i));
  return utf16_to_bytes(units);
}

inline std::string utf16be_text(ByteView bytes) {
  std::vector<char16_t> units;
  for (std::size_t i = 0; i + 1 < bytes.size() && be16(bytes, i) != 0; i += 2)
    units.push_back(be16(bytes, i));
  return utf16_to_bytes(units);
}

}  // namespace lantern
