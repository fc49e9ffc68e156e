// Recognition: what the first structures of some bytes say they are, whether this library reads it
// or not.
//
//   for (const Recognition& found : known_formats().recognise(*file)) ...
//
// Thread-safety: values.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "lantern/range.h"

namespace lantern {

enum class FormatKind {
  container,
  partition_table,
  volume_manager,
  array,
  encryption,
  file_system,
  swap
};

std::string_view to_string(FormatKind kind);

struct Recognition {
  std::string format;  // stable: "xfs", "md", "lvm", "luks2"
  FormatKind kind{};
  std::string title;        // in words: "XFS", "LVM physical volume"
  Range range;              // bytes of the source that was asked; length 0: not recorded
  std::uint64_t place = 0;  // byte of the source at which the structure is that says so
  bool verified = false;    // checksums or several figures fit; else only a magic number does
  bool from_copy = false;   // the first structure is lost, a copy of it says so
  bool is_read = false;     // a reader here opens it
  std::string label, uuid;  // of a file system; may be empty
  std::string set_id;       // of an array or group: the same on each of its members
  std::optional<std::uint32_t> slot;  // of a member
  std::string detail;                 // what else is known, in words
  std::string required_key;           // of an encrypted volume: what opens it
};

}  // namespace lantern
