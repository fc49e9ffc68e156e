// Why no files can be read where an address leads.
//
// Thread-safety: may be called from any thread.
#pragma once

#include "lantern/nest/layer.h"

namespace lantern {

// Of an encrypted volume that is closed. Throws Error{cannot_read, unsupported}.
[[noreturn]] void fail_locked(const VolumeLayer& volume);
// Of a disk none of whose volumes can be read: what they hold; where the only one is encrypted, as
// above.
[[noreturn]] void fail_unread(const DiskLayer& disk);

}  // namespace lantern
