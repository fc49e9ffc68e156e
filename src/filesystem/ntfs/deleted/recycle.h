// The recycle bin: what it says of a file whose name it took. Beside "$RABCDEF.txt", the file or
// folder, lies "$IABCDEF.txt". Little-endian, offsets in bytes.
//   0 8 version  8 8 size of the file  0x10 8 time of deletion, as in names.h
//   version 1: 0x18 520 its path in UTF-16, up to a zero unit
//   version 2: 0x18 4 units of its path, the zero one too  0x1C the path
// The older one keeps a list, INFO2, and names what it took "Dc7.txt", by drive and number:
//   0x0C 4 bytes of an entry, 0x320 or 0x118  0x14 the entries
//   entry: 0 260 path in the system's code page, its first byte 0 when it was put back  0x104 4
//   number
//     0x108 4 drive, 0 for A  0x10C 8 time of deletion  0x118 520 the path in UTF-16
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

// By the name of its owner's folder in the bin, '/', and the name without "$I" or "$R", or, in the
// older one, without its extension.
using RecycleBin = std::map<std::string, Recycled>;

constexpr std::string_view kOlderList = "INFO2";
// Adds what an older bin's list tells of. `owner`: the name of the folder it is in.
void add_older_list(ByteView list, const std::string& owner, RecycleBin& bin);
// Whether a folder in the root is a bin, of either kind.
bool is_recycle_bin(const std::string& name);

// What a path of three names and more was before it went to the bin.
std::optional<Recycled> before_the_bin(const RecycleBin& bin, const std::vector<std::string>& path);

}  // namespace lantern::ntfs
