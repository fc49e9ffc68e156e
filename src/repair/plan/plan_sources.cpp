#include "repair/plan/plan_sources.h"

#include "lantern/sources.h"

namespace lantern::repair {

std::vector<PlanSource> plan_sources(const Address& address, const Target* target,
                                     const Context& context) {
  std::vector<std::string> paths;
  if (target != nullptr) paths = bottom_sources(*target);
  if (paths.empty()) paths = {address.first};
  std::vector<PlanSource> sources;
  for (std::string& path : paths) {
    const Identity identity = identify(*open_file_source(path, context));
    sources.push_back({std::move(path), identity});
  }
  return sources;
}

}  // namespace lantern::repair
