// A small member of a zip by its name, unpacked.
//
// Thread-safety: as the reader.
#pragma once

#include <string>
#include <string_view>

#include "contents/kind_reader.h"

namespace lantern::kinds {

// As much of it as `most` bytes; empty: there is no such member near the front or in the directory.
std::string unpacked_member(KindReader& file, std::string_view name, std::uint64_t most);

}  // namespace lantern::kinds
