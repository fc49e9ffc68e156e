// Puts a plan together: what the diagnoses propose is laid over the disk in memory, part by part;
// what gains nothing measured, or makes anything less accessible, or writes where it must not, is
// left out.
//
// Thread-safety: one thread a plan.
#pragma once

#include "lantern/repair.h"

namespace lantern::repair {

RepairPlan make_repair_plan(const Address& source, const PlanOptions& how, const Session& session);

}  // namespace lantern::repair
