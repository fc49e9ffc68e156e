// GUIDs as text: RFC 9562 form, from the mixed-endian order disks keep them in.
#pragma once

#include <fmt/format.h>

#include <string>

#include "base/bytes.h"

namespace lantern {

// The 16 bytes at `at`, in lower case with dashes.
inline std::string guid_text(ByteView bytes, std::size_t at) {
  const ByteView g = slice(bytes, at, 16);
  return fmt::format("{:08x}-{:04x}-{:04x}-{:02x}{:02x}-{:02x}{:02x}{:02x}{:02x}{:02x}{:02x}",
                     le32(g, 0), le16(g, 4), le16(g, 6), u8(g, 8), u8(g, 9), u8(g, 10), u8(g, 11),
                     u8(g, 12), u8(g, 13), u8(g, 14), u8(g, 15));
}

}  // namespace lantern
