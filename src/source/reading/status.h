// The status of a copy in a file: JSON lines, the first says of which disk, each other one run of
// the map (docs/json/reading.md).
//
// Thread-safety: pure but for the file.
#pragma once

#include <optional>
#include <string>

#include "source/reading/read_map.h"

namespace lantern {

struct ReadingStatus {
  std::string name;  // of the disk
  ReadMap map;
};

// Replaces `path` in one step. Throws Error{cannot_write, stopped (no room)}.
void write_reading_status(const std::string& path, const ReadingStatus& status);

// Empty: there is no such file. Throws Error{refused} for one that is not valid, so that it is not
// replaced.
std::optional<ReadingStatus> read_reading_status(const std::string& path);

}  // namespace lantern
