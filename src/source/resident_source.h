// Content that is kept inside a structure of its file system, such as a record of a file table.
//
// Thread-safety: as every source.
#pragma once

#include "lantern/byte_source.h"

namespace lantern {

// `how` of such an extent. The bytes in the structure may differ from the content where the
// structure protects its sectors, so it is derived, not direct.
constexpr std::string_view kResident = "resident";

// `place`: byte of `holder` at which it begins there.
SourcePtr make_resident_source(std::vector<std::byte> content, SourcePtr holder,
                               std::uint64_t place);

}  // namespace lantern
