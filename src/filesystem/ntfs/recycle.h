// The recycle bin: what it says of a file whose name it took. Beside "$RABCDEF.txt", the file or
// folder, lies "$IABCDEF.txt". Little-endian, offsets in bytes.
//   0 8 version  8 8 size of the file  0x10 8 time of deletion, as in names.h
//   version 1: 0x18 520 its path in UTF-16, up to a zero unit
//   version 2: 0x18 4 units of its path, the zero one too  0x1C the path
// Source: the format as public descriptions of it have it; there is no specification.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "lantern/timestamp.h"

namespace lantern::ntfs {

struct Recycled {
  std::string path;  // where it was
  std::optional<Timestamp> when;
};

std::optional<Recycled> parse_recycled(ByteView bytes);

// By the name of its owner's folder in the bin, '/', and the name without "$I" or "$R".
using RecycleBin = std::map<std::string, Recycled>;

// What a path of three names and more was before it went to the bin.
std::optional<Recycled> before_the_bin(const RecycleBin& bin, const std::vector<std::string>& path);

}  // namespace lantern::ntfs
