// Why a disk must not be written to now: who uses it, what would be harmed.
//
// Thread-safety: any thread.
#pragma once

#include "lantern/repair.h"
#include "source/write_log.h"

namespace lantern {

// Throws Error{refused}, with who and what to do.
void check_guards(const RepairPlan& plan, const std::vector<std::size_t>& steps,
                  const WriteLog& writes, const OpenOptions& options, const ApplyOptions& how,
                  const Context& context);

}  // namespace lantern
