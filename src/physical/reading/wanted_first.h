// What is wanted of a failing disk before all else: the structures of its file systems, and files.
//
// Thread-safety: belongs to one thread.
#pragma once

#include "lantern/physical/failing_disk.h"
#include "physical/reading/disk_copy.h"
#include "physical/reading/order.h"

namespace lantern {

// Walks every file system there is, and reads the files that match, through the copy; as folders
// become readable when they are tried again, what is in them, too. A disk on which nothing is
// recognised costs a few reads. Throws what `read` throws, and Error{stopped}.
void read_wanted_first(DiskCopy& copy, const ReadOrder& order, const FailingCopy& wanted,
                       const std::function<Tried(Range)>& read, const Context& context);

}  // namespace lantern
