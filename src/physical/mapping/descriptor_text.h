// The text of a pointer descriptor.
//
// Thread-safety: pure functions.
#pragma once

#include <string>

#include "container/vmdk/descriptor.h"
#include "lantern/physical/mapping.h"

namespace lantern {

MapRecord record_of(const DiskMap& map);
std::string descriptor_text(const DiskMap& map);

}  // namespace lantern
