// Checksums of structures that a plan changes by hand, and what has to change with them.
//
// Thread-safety: one thread.
#pragma once

#include <vector>

#include "lantern/structure.h"
#include "repair/diagnose/diagnosis.h"
#include "repair/trial.h"

namespace lantern::repair {

// `after`: the structure as it is to be, with `changed` fields; its own checksum is set there, and
// those that are elsewhere are added to `step`. A checksum that is itself changed is left as asked.
// Throws Error{usage} where a field cannot be changed by itself.
void recalculate(const Trial& trial, const Target& target, const Structure& structure,
                 const std::vector<Field>& changed, Bytes& after, RepairStep& step,
                 const Context& context);

}  // namespace lantern::repair
