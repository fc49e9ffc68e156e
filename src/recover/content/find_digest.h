// A short value by which finds that may be alike are looked up.
//
// Thread-safety: a pure function of what it reads.
#pragma once

#include <string>

#include "lantern/byte_source.h"

namespace lantern {

// Of its first and last bytes: what has it alike is to be compared.
std::string digest_of(const ByteSource& content);

}  // namespace lantern
