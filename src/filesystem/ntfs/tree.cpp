#include "filesystem/ntfs/tree.h"
#include "filesystem/walk_guard.h"

#include <fmt/format.h>

#include "lantern/text.h"

namespace lantern::ntfs {

bool Tree::hidden(const Link& link, std::size_t depth) const {
  return !system_ && depth == 0 && link.record < kFirstOwnRecord;
}

void Tree::walk(const WalkOptions& options, const SameName& same, const NameOf& name_of,
                const std::function<WalkStep(const Visit&)>& visit) {
  std::vector<Level> levels;
  std::vector<std::string> path;
  std::vector<bool> entered(static_cast<std::size_t>(volume_.records()) + census_.remnants.size());
  WalkGuard guard(options, volume_.context);
  const auto enter = [&](std::uint32_t folder, Reference reference, bool lost) {
    const auto [from, to] = census_.in_folder(folder);
    levels.push_back({from, to, reference, lost, false});
  };
  enter(static_cast<std::uint32_t>(kRootRecord), {}, false);
  entered[kRootRecord] = true;

  while (!levels.empty()) {
    Level& level = levels.back();
    if (level.next == level.end) {
      if (levels.size() == 1 && !level.nowhere && options.deleted) {
        const auto [from, to] = census_.in_folder(kNowhere);
        level = {from, to, {}, true, true};
        continue;
      }
      levels.pop_back();
      continue;
    }
    const Link& link = census_.links[level.next++];
    guard.meet();
    const std::size_t depth = levels.size() - 1;
    const bool on_the_way = guard.on_the_way(depth);
    const bool lost = link.deleted || link.orphan || level.lost;
    const bool shown = lost ? options.deleted : options.active;
    if ((!shown && !link.is_folder) || (lost && !options.deleted)) continue;
    if (!on_the_way && hidden(link, depth)) continue;
    const auto file = census_.file(volume_, link.record);
    if (!file) continue;
    const FileName* const name = link.name < file->names.size() ? &file->names[link.name] : nullptr;
    const auto given = census_.given.find(link.record);
    Visit seen{path, link, *file, name, nullptr, EntryState::active, level.folder};
    if (name == nullptr && given != census_.given.end()) seen.given = &given->second;
    path.resize(depth + 1);
    path.back() = name != nullptr         ? name->text
                  : seen.given != nullptr ? seen.given->text
                                          : name_of(*file);
    if (on_the_way && !same(path.back(), options.under[depth])) continue;
    if (link.deleted)
      seen.state = EntryState::deleted;
    else if (lost)
      seen.state = EntryState::orphan;
    WalkStep step = WalkStep::go_on;
    if (!on_the_way && shown) {
      if (!guard.may_visit({})) return;
      step = visit(seen);
      if (step == WalkStep::stop) return;
    }
    if (!link.is_folder || !guard.wants_inside(depth, step)) continue;
    if (entered[link.record]) continue;
    if (!guard.may_enter(levels.size(), volume_.record_place(link.record))) continue;
    entered[link.record] = true;
    enter(link.record, {file->number, file->sequence}, lost);
  }
}

}  // namespace lantern::ntfs
