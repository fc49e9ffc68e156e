// File names and times of NTFS. Little-endian, offsets in bytes.
//   name: 0 8 folder it is in, a reference  8 8 created, 0x10 8 modified, 0x18 8 record changed,
//     0x20 8 accessed  0x28 8 allocated  0x30 8 size  0x38 4 attribute bits  0x40 1 UTF-16 units
//     0x41 1 space: 0 any bytes, 1 long, 2 short (8.3), 3 both  0x42 the units
// Source: the Linux kernel's documentation and headers of NTFS.
//
// Thread-safety: pure functions.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/time_since_1601.h"
#include "filesystem/ntfs/record.h"
#include "lantern/timestamp.h"

namespace lantern::ntfs {

constexpr std::uint8_t kShortSpace = 2;

struct FileName {
  Reference folder;
  std::optional<Timestamp> created, modified, changed, accessed;
  std::uint64_t size_bytes = 0;
  std::uint32_t attributes = 0;
  std::uint8_t space = 0;
  std::string text;
};

// All units, as bytes of UTF-8.
std::string name_text(ByteView units);

inline std::optional<Timestamp> time_at(ByteView bytes, std::size_t at) {
  return time_since_1601(le64(bytes, at));
}

// Whether a name that was found by its looks can be one.
bool can_be_name(const std::string& text);

// Empty: too short for what it says.
std::optional<FileName> parse_file_name(ByteView value);

}  // namespace lantern::ntfs
