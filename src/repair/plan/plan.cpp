#include <fmt/format.h>

#include <algorithm>

#include "lantern/error.h"
#include "lantern/repair.h"
#include "lantern/text.h"
#include "repair/plan/manual_plan.h"
#include "repair/plan/planner.h"

namespace lantern::repair {
std::string_view to_string(Certainty certainty) {
  switch (certainty) {
    case Certainty::certain:
      return "certain";
    case Certainty::likely:
      return "likely";
    case Certainty::possible:
      return "possible";
  }
  return "";
}

std::vector<std::size_t> certain_fixes(const RepairPlan& plan) {
  std::vector<std::size_t> numbers;
  for (const RepairFix& fix : plan.fixes)
    if (fix.certainty == Certainty::certain) numbers.push_back(fix.number);
  return numbers;
}

std::vector<std::size_t> first_choice(const RepairPlan& plan) {
  const std::vector<std::size_t> certain = certain_fixes(plan);
  if (!certain.empty() || plan.fixes.empty()) return certain;
  // It needs no other: those it could need would come before it.
  return {plan.fixes.front().number};
}

std::vector<std::size_t> all_together(const RepairPlan& plan) {
  std::vector<std::size_t> numbers;
  for (const RepairFix& fix : plan.fixes) {
    const auto taken = [&](std::size_t number) { return number < fix.number; };
    if (std::none_of(fix.alternatives.begin(), fix.alternatives.end(), taken))
      numbers.push_back(fix.number);
  }
  return numbers;
}

std::vector<std::size_t> steps_of(const RepairPlan& plan, const std::vector<std::size_t>& fixes) {
  std::vector<std::size_t> steps;
  const auto named = [&](std::size_t number) {
    return std::find(fixes.begin(), fixes.end(), number) != fixes.end();
  };
  for (const std::size_t number : fixes)
    if (number == 0 || number > plan.fixes.size())
      throw Error(ErrorCode::usage, plan.source, std::nullopt,
                  fmt::format("there is no fix {}", number), {Do::plan, " lists them"});
  for (const RepairFix& fix : plan.fixes) {
    if (!named(fix.number)) continue;
    for (const std::size_t need : fix.needs)
      if (!named(need))
        throw Error(ErrorCode::usage, plan.source, std::nullopt,
                    fmt::format("fix {} needs fix {}", fix.number, need),
                    {"name both: ", Action{Do::apply, {fmt::format("{},{}", need, fix.number)}}});
    for (const std::size_t other : fix.alternatives)
      if (named(other))
        throw Error(ErrorCode::usage, plan.source, std::nullopt,
                    fmt::format("fixes {} and {} are alternatives", fix.number, other),
                    {"choose one of them: ", Action{Do::apply, {std::to_string(fix.number)}}});
    steps.insert(steps.end(), fix.steps.begin(), fix.steps.end());
  }
  return steps;
}

RepairPlan plan_repair(const Address& source, const PlanOptions& how, const Session& session) {
  return make_repair_plan(source, how, session);
}

RepairPlan plan_bytes(const Address& source, std::uint64_t offset,
                      const std::vector<std::byte>& bytes, const Session& session) {
  ManualPlan plan(source, session);
  const Address& own = plan.trial().source();
  RepairStep step;
  step.code = "manual.bytes";
  step.what = fmt::format("{} at byte {}", counted(bytes.size(), "byte"), offset);
  step.writes.push_back({own.print(), offset, {}, bytes});
  const bool raw_file = own.steps.size() == 1 && own.steps.front().kind == Step::Kind::bytes;
  const std::optional<Target> target =
      raw_file ? std::nullopt : std::optional(plan.trial().fresh().open(own));
  const std::uint64_t size = plan.trial().layer(own.print())->size();
  if (bytes.empty() || offset >= size || bytes.size() > size - offset)
    throw Error(ErrorCode::usage, own.print(), offset,
                fmt::format("{} bytes do not fit here: the layer has {}", bytes.size(), size),
                {Do::survey, " shows the sizes"});
  plan.add(std::move(step));
  return plan.finish(target ? &*target : nullptr, session.context());
}

}  // namespace lantern::repair
