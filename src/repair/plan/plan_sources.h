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
// Adds those that only the steps lead to: a member of an array that is not used in it yet.
void add_written_sources(RepairPlan& plan, const Session& session);

}  // namespace lantern::repair
