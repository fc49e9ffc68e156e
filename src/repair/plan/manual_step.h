// A plan of one step that the user asked for, byte by byte or field by field.
#pragma once

#include "lantern/repair.h"

namespace lantern::repair {

void add_manual_step(RepairPlan& plan, RepairStep step);

}  // namespace lantern::repair
