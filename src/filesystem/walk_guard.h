// What every walk of a tree of folders minds: the budgets of entries and of depth, a stop, and how
// far the caller wants to go.
//
// Thread-safety: one thread a walk.
#pragma once

#include <fmt/format.h>

#include "lantern/file_system.h"
#include "lantern/text.h"

namespace lantern {

class WalkGuard {
 public:
  WalkGuard(const WalkOptions& options, const Context& context)
      : options_(options), context_(context) {}

  // Of each entry that is met, visited or not. Throws Error{stopped}.
  void meet() {
    if (++met_ % 1024 == 0) context_.check_cancelled();
  }
  // Of an entry at `depth` (0: in the root): whether it only leads to where the walk begins.
  bool on_the_way(std::size_t depth) const { return depth < options_.under.size(); }
  // Whether one more entry may be visited; where the budget ends a finding, and the walk is over.
  bool may_visit(Range place) {
    if (++visited_ <= context_.budget.max_entries) return true;
    context_.report(FindingCode::budget_entries, Severity::warning, place,
                    "more entries than the budget allows", "the rest are not listed");
    return false;
  }
  // Whether the caller wants what lies in a folder at `depth`.
  bool wants_inside(std::size_t depth, WalkStep step) const {
    if (step == WalkStep::skip_folder) return false;
    return on_the_way(depth) || depth - options_.under.size() + 1 < options_.max_depth;
  }
  // Whether a folder may be entered with so many open; else a finding.
  bool may_enter(std::size_t open_folders, Range place) const {
    if (open_folders <= context_.budget.max_depth) return true;
    context_.report(FindingCode::budget_depth, Severity::warning, place,
                    "folders lie deeper than the budget allows", "deeper ones are not listed");
    return false;
  }
  // A folder that leads to one met before.
  void report_loop(FindingCode code, Range place, const std::string& name) const {
    context_.report(
        code, Severity::damage, place,
        fmt::format("the folder \"{}\" leads to a folder met before", for_terminal(name)),
        "it is not entered again");
  }

 private:
  const WalkOptions& options_;
  const Context& context_;
  std::uint64_t met_ = 0;
  std::uint64_t visited_ = 0;
};

}  // namespace lantern
