#include "repair/plan/manual_plan.h"

#include "lantern/error.h"
#include "repair/plan/plan_sources.h"

namespace lantern::repair {

ManualPlan::ManualPlan(const Address& source, const Session& session)
    : trial_(resolved(source), session,
             Scratch::in_memory(session.context().clock->now_seconds(), session.context().scratch)),
      context_(trial_.fresh().context()) {
  plan_.source = trial_.source().print();
  before_ = measure();
}

AccessState ManualPlan::measure() {
  try {
    return meter_.measure(trial_.open(), writes_, context_);
  } catch (const Error& error) {
    if (error.code() == ErrorCode::stopped) throw;
    return {};  // what cannot be opened has nothing that is accessible
  }
}

void ManualPlan::add(RepairStep step) {
  trial_.fill_before(step);
  trial_.write(step);
  writes_.insert(writes_.end(), step.writes.begin(), step.writes.end());
  const std::size_t number = plan_.steps.size() + 1;
  step.number = number;
  step.certainty = Certainty::certain;
  if (step.evidence.empty()) step.evidence = "manual";
  plan_.fixes.push_back({number, Certainty::certain, "manual", {}, {}, {number}});
  plan_.steps.push_back(std::move(step));
}

RepairPlan ManualPlan::finish(const Target* target, const Context& context) {
  plan_.sources = plan_sources(trial_.source(), target, context);
  const AccessState after = measure();
  plan_.before = before_.reach();
  plan_.after = plan_.after_all = after.reach();
  const StateChange change = change_between(before_, after);
  if (!plan_.fixes.empty() && change.gains()) plan_.fixes.back().gain += ": " + change.words();
  if (!change.lost.empty())
    plan_.notes.emplace_back("with it, this would be accessible no more: " + change.lost);
  return std::move(plan_);
}

}  // namespace lantern::repair
