#include "filesystem/ntfs/tree.h"
#include "filesystem/level_order.h"
#include "filesystem/walk_guard.h"

#include <fmt/format.h>

#include "lantern/text.h"

namespace lantern::ntfs {

bool Tree::hidden(const Link& link, std::size_t depth) const {
  return !system_ && depth == 0 && link.record < kFirstOwnRecord;
}

std::string Tree::name(const Link& link, const File& file, const NameOf& name_of) const {
  if (link.name < file.names.size()) return file.names[link.name].text;
  const auto given = index_.given.find(link.record);
  return given != index_.given.end() ? given->second.text : name_of(file);
}

Tree::Level Tree::level_of(std::uint32_t folder, Reference reference, bool lost, WalkOrder order,
                           const NameOf& name_of) const {
  const auto [from, to] = index_.in_folder(folder);
  Level level{from, to, reference, lost, false, {}};
  if (order == WalkOrder::as_stored) return level;
  for (std::size_t i = from; i < to; ++i) level.sorted.push_back(i);
  sort_level(level.sorted, order, [&](std::size_t i) {
    if (i % 1024 == 0) volume_.context.check_cancelled();
    const Link& link = index_.links[i];
    const auto file = index_.file(volume_, link.record);
    return LevelKey{file ? name(link, *file, name_of) : std::string(), link.is_folder};
  });
  level.next = 0;
  level.end = level.sorted.size();
  return level;
}

void Tree::walk(const WalkOptions& options, const SameName& same, const NameOf& name_of,
                const std::function<WalkStep(const Visit&)>& visit) {
  std::vector<Level> levels;
  std::vector<std::string> path;
  std::vector<bool> entered(static_cast<std::size_t>(volume_.records()) + index_.remnants.size());
  WalkGuard guard(options, volume_.context);
  const auto enter = [&](std::uint32_t folder, Reference reference, bool lost) {
    levels.push_back(level_of(folder, reference, lost, options.order, name_of));
  };
  enter(static_cast<std::uint32_t>(kRootRecord), {}, false);
  entered[kRootRecord] = true;

  while (!levels.empty()) {
    Level& level = levels.back();
    if (level.next == level.end) {
      if (levels.size() == 1 && !level.nowhere && options.deleted) {
        level = level_of(kNowhere, {}, true, options.order, name_of);
        level.nowhere = true;
        continue;
      }
      levels.pop_back();
      continue;
    }
    const std::size_t at = level.next++;
    const Link& link = index_.links[level.sorted.empty() ? at : level.sorted[at]];
    guard.meet();
    const std::size_t depth = levels.size() - 1;
    const bool on_the_way = guard.on_the_way(depth);
    const bool lost = link.deleted || link.orphan || level.lost;
    const bool shown = lost ? options.deleted : options.active;
    if ((!shown && !link.is_folder) || (lost && !options.deleted)) continue;
    if (!on_the_way && hidden(link, depth)) continue;
    const auto file = index_.file(volume_, link.record);
    if (!file) continue;
    const FileName* const own = link.name < file->names.size() ? &file->names[link.name] : nullptr;
    const auto given = index_.given.find(link.record);
    Visit seen{path, link, *file, own, nullptr, EntryState::active, level.folder};
    if (own == nullptr && given != index_.given.end()) seen.given = &given->second;
    path.resize(depth + 1);
    path.back() = name(link, *file, name_of);
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
