// Names what a volume holds by its first sectors, for those that cannot be opened yet.
#pragma once

#include <string>

#include "lantern/byte_source.h"

namespace lantern {

// "NTFS", "ext4", "nothing but zeros", ... or empty when nothing is known.
std::string recognise(const ByteSource& volume);

}  // namespace lantern
