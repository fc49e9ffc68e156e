// Opening an encrypted volume with what a key ring holds: every slot is tried with every key.
//
// Thread-safety: may be called from any thread.
#pragma once

#include <string>

#include "lantern/byte_source.h"
#include "lantern/context.h"
#include "lantern/volume/keys.h"
#include "volume/luks/header.h"

namespace lantern::luks {

struct Unlocked {
  SourcePtr content;    // empty: it stays closed
  bool tried = false;   // there was a key to try
  std::string why_not;  // in words
};

// `header`: where it is; the volume itself, unless it is detached. `address`: of the volume.
// `context` gets what is wrong with the header.
Unlocked unlock(const SourcePtr& volume, const ByteSource& header, const std::string& address,
                KeyRing& keys, const Context& context);

}  // namespace lantern::luks
