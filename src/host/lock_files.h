// Lock files that hypervisors leave beside the disks they hold, and who wrote them.
//
// Thread-safety: any thread.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "lantern/context.h"
#include "lantern/sources.h"

namespace lantern {

// In words, each: "the lock file disk.vmdk.lck (by \"bench-2\", 3 days old) is there". `of`: only
// those that begin with this name, as a disk's own do; empty: all in the folder. `on_host`: the
// folder is one of this computer, whose files have an age.
std::vector<std::string> lock_files(const Neighbours& folder, std::string_view of, bool on_host,
                                    const Context& context);

// By its name.
bool is_lock_file(std::string_view name);

}  // namespace lantern
