// The files and devices a plan is for, by which it knows them again.
//
// Thread-safety: pure function of what it reads.
#pragma once

#include <vector>

#include "lantern/repair.h"

namespace lantern::repair {

// `target`: what the address leads to; null when it cannot be opened: then FIRST alone.
std::vector<PlanSource> plan_sources(const Address& address, const Target* target,
                                     const Context& context);

}  // namespace lantern::repair
