// Containers: what can be written again from a copy in the same file, or from the shape of what is
// left.
#include <fmt/format.h>

#include "base/crc32c.h"
#include "base/lay.h"
#include "repair/diagnose/diagnosis.h"

namespace lantern {

void diagnose_container(const Address& /*address*/, const SourcePtr& /*file*/,
                        Diagnosis& /*diagnosis*/, const Context& /*context*/) {}

}  // namespace lantern
