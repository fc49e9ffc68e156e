#include <algorithm>
#include <string_view>

#include "lantern/error.h"
#include "lantern/nest/session.h"

namespace lantern {
namespace {

std::uint64_t state_of(const Entry& entry) {
  std::string text;
  for (const std::string& name : entry.path) text += name + '/';
  const auto add = [&](std::uint64_t number) { text += std::to_string(number) + ' '; };
  add(static_cast<std::uint64_t>(entry.kind));
  add(entry.size_bytes);
  if (entry.modified && entry.kind != EntryKind::folder) {
    add(static_cast<std::uint64_t>(entry.modified->seconds));
    add(entry.modified->nanoseconds);
  }
  return std::hash<std::string>{}(text);
}

// What the target's folder or file is in another state of the volume; empty entry in a target that
// names none. False: it is not there.
bool find_then(const Target& now, Target& then) {
  if (!now.entry) return true;
  const FileSystem& files = then.file_system();
  const auto active = [](const Entry& entry) { return entry.state == EntryState::active; };
  const std::vector<Entry> by_path = files.find(now.entry->path);
  const auto found = std::find_if(by_path.begin(), by_path.end(), active);
  if (found != by_path.end())
    then.entry = *found;
  else
    then.entry = files.entry(now.entry->id);
  return then.entry && active(*then.entry);
}

}  // namespace

void walk_versions(const Target& target, const WalkOptions& options, const Session& session,
                   const VersionVisitor& visit) {
  const VolumeLayer& now = target.volume_layer();
  WalkOptions active = options;
  active.active = true;
  active.deleted = active.versions = false;
  std::vector<std::uint64_t> seen;  // sorted
  std::vector<std::uint64_t> met;
  const auto settle = [&] {
    seen.insert(seen.end(), met.begin(), met.end());
    std::sort(seen.begin(), seen.end());
    seen.erase(std::unique(seen.begin(), seen.end()), seen.end());
    met.clear();
  };
  if (!target.entry || target.entry->state == EntryState::active)
    walk_target(target, active, [&](const Entry& entry) {
      met.push_back(state_of(entry));
      return WalkStep::go_on;
    });
  settle();
  const std::vector<DiskVersion>& versions = now.versions();
  for (auto version = versions.rbegin(); version != versions.rend(); ++version) {
    Target then = target;
    then.volume = session.open_version(now, version->id);
    if (!then.volume->file_system() || !find_then(target, then)) continue;
    walk_target(then, active, [&](const Entry& entry) {
      const std::uint64_t state = state_of(entry);
      if (std::binary_search(seen.begin(), seen.end(), state)) return WalkStep::go_on;
      met.push_back(state);
      visit(then.volume_layer(), *version, entry);
      return WalkStep::go_on;
    });
    settle();
  }
}

}  // namespace lantern
