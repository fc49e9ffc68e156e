// Where an undo journal goes that nobody named.
#pragma once

#include <string>

#include "lantern/address.h"

namespace lantern::cli {

// "disk.undo" in the current folder, "disk-2.undo" when that is an earlier one's. Throws
// Error{refused} when there are too many.
std::string new_journal(const Address& address);

}  // namespace lantern::cli
