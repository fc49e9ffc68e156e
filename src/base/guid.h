// GUIDs as text: RFC 9562 form, from the mixed-endian order disks keep them in.
#pragma once

#include <fmt/format.h>

#include <algorithm>
#include <string>
#include <string_view>

#include "base/bytes.h"

namespace lantern {

// The 16 bytes at `at`, in lower case with dashes.
inline std::string guid_text(ByteView bytes, std::size_t at) {
  const ByteView g = slice(bytes, at, 16);
  return fmt::format("{:08x}-{:04x}-{:04x}-{:02x}{:02x}-{:02x}{:02x}{:02x}{:02x}{:02x}{:02x}",
                     le32(g, 0), le16(g, 4), le16(g, 6), u8(g, 8), u8(g, 9), u8(g, 10), u8(g, 11),
                     u8(g, 12), u8(g, 13), u8(g, 14), u8(g, 15));
}

// The 16 bytes of such a text; empty when it is invalid.
inline Bytes guid_bytes(std::string_view text) {
  constexpr std::size_t kOrder[16] = {3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15};
  std::string digits;
  for (const char c : text)
    if (c != '-') digits += c;
  if (digits.size() != 32 || text.size() != 36 ||
      digits.find_first_not_of("0123456789abcdefABCDEF") != std::string::npos)
    return {};
  Bytes bytes(16);
  for (std::size_t i = 0; i < 16; ++i)
    bytes[kOrder[i]] = static_cast<std::byte>(std::stoul(digits.substr(2 * i, 2), nullptr, 16));
  return bytes;
}

inline void store_guid(std::span<std::byte> at, std::string_view text) {
  const Bytes bytes = guid_bytes(text);
  std::copy(bytes.begin(), bytes.end(), at.begin());
}

}  // namespace lantern
