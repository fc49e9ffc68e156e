#include "repair/plan/plan_sources.h"

#include <algorithm>
#include <filesystem>
#include <set>

#include "lantern/sources.h"

namespace lantern::repair {

std::vector<PlanSource> plan_sources(const Address& address, const Target* target,
                                     const Context& context) {
  std::vector<std::string> paths;
  if (target != nullptr) paths = bottom_sources(*target);
  // Of a folder of disks those that are written to are enough.
  std::error_code error;
  if (paths.empty() && !std::filesystem::is_directory(address.first, error))
    paths = {address.first};
  std::vector<PlanSource> sources;
  for (std::string& path : paths) {
    const Identity identity = identify(*open_file_source(path, context));
    sources.push_back({std::move(path), identity});
  }
  return sources;
}

void add_written_sources(RepairPlan& plan, const Session& session) {
  std::set<std::string> addresses;
  for (const RepairStep& step : plan.steps)
    for (const PlannedWrite& write : step.writes) addresses.insert(write.address);
  for (const std::string& written : addresses) {
    const Address address = Address::parse(written);
    // The bytes of a file are no disk, and the file is the plan's own.
    if (!address.steps.empty() && address.steps.back().kind == Step::Kind::bytes) continue;
    const Target target = session.open_disk(address);
    for (PlanSource& source : plan_sources(address, &target, session.context()))
      if (std::none_of(plan.sources.begin(), plan.sources.end(),
                       [&](const PlanSource& known) { return known.path == source.path; }))
        plan.sources.push_back(std::move(source));
  }
}

}  // namespace lantern::repair
