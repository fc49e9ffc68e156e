// What must not be the case when a disk is written to: that somebody uses it, that another image is
// based on it, that a system will write its own log over what is repaired.
//
// Thread-safety: one thread.
#pragma once

#include <string>
#include <vector>

#include "lantern/repair.h"
#include "source/write_log.h"

namespace lantern::repair {

// The step of writes by a system's own driver, which minds the logs of its file systems itself.
constexpr const char* kInPlace = "in-place";

// A part of a layer that a write is for.
struct TouchedLayer {
  std::string address;
  Range range;       // bytes of it
  std::string step;  // its code
};

struct GuardedWrites {
  std::string source;                // the address that is repaired
  std::vector<TouchedLayer> layers;  // what is touched, as the plan had it
  const WriteLog& writes;            // to the files below
};

// What was found beside the disk that does not stand in the way.
struct Beside {
  std::vector<std::string> trials;  // images that repair_into made of it, and nothing has changed
};

// Throws Error{refused}, with who and what to do.
Beside check_guards(const GuardedWrites& guarded, const Session& session, const ApplyOptions& how);

}  // namespace lantern::repair
