#include "filesystem/ext/tree.h"
#include "filesystem/walk_guard.h"

#include <fmt/format.h>

#include "lantern/text.h"

namespace lantern::ext {

Tree::Level Tree::level_of(const Inode& inode, bool in_lost, bool is_lost) const {
  Level level;
  level.key = {inode.number, inode.generation};
  level.in_lost = in_lost;
  // What a deleted folder held, the census knows; one that only lost its name is read.
  if (!is_lost) level.reader.emplace(volume_, inode);
  if (census_ != nullptr) {
    const auto [from, to] = census_->children.equal_range(level.key);
    for (auto child = from; child != to; ++child) level.lost.push_back(child->second);
  }
  return level;
}

void Tree::walk(const WalkOptions& options, const SameName& same,
                const std::function<WalkStep(const Visit&)>& visit) {
  std::vector<Level> levels;
  std::vector<std::string> path;
  std::unordered_set<std::uint32_t> entered = {kRootInode};
  std::set<InodeKey> entered_lost;
  WalkGuard guard(options, volume_.context);

  Inode root;
  root.number = kRootInode;
  if (const auto found = volume_.inode(kRootInode); found && found->folder())
    root = *found;
  else
    volume_.context.report(FindingCode::ext_folder, Severity::damage,
                           volume_.inode_place(kRootInode).value_or(Range{}),
                           "the root folder cannot be read",
                           "what other folders and inodes tell is listed");
  levels.push_back(level_of(root, false, root.mode == 0));
  if (census_ != nullptr) {
    // Those whose folder is not known stand in the root.
    const auto [from, to] = census_->children.equal_range({});
    for (auto child = from; child != to; ++child) levels.back().lost.push_back(child->second);
  }

  while (!levels.empty()) {
    guard.meet();
    Level& level = levels.back();
    Visit seen{path, nullptr, 0, nullptr, level.in_lost, 0, level.key, 0};
    std::optional<Inode> inode;
    std::string name;
    if (level.reader) {
      const FolderEntry* const entry = level.reader->next();
      if (entry == nullptr) {
        level.reader.reset();
        continue;
      }
      if (entry->name == "." || entry->name == "..") continue;
      name = entry->name;
      seen.number = entry->inode;
      seen.type = entry->type;
      seen.place = level.reader->place();
    } else if (level.next_lost < level.lost.size()) {
      const Lost& lost = census_->lost[level.lost[level.next_lost++]];
      if (lost.version != 0 && !options.versions) continue;
      // An orphan's folder lists its own; a lost entry is listed once.
      if (lost.version == 0 && !entered_lost.insert(lost.key()).second) continue;
      name = lost.name;
      seen.number = lost.inode.number;
      seen.lost = &lost;
      inode = lost.inode;
    } else {
      levels.pop_back();
      continue;
    }
    const bool is_lost = seen.lost != nullptr;
    const std::size_t depth = levels.size() - 1;
    const bool on_the_way = guard.on_the_way(depth);
    if (on_the_way && !same(name, options.under[depth])) continue;
    const bool shown = is_lost || level.in_lost ? options.deleted : options.active;
    if (!inode) inode = volume_.inode(seen.number);
    const bool folder = inode ? inode->folder() : seen.type == 2;
    if (!shown && !folder) continue;
    path.resize(depth + 1);
    path.back() = std::move(name);
    seen.inode = inode ? &*inode : nullptr;

    WalkStep step = WalkStep::go_on;
    if (!on_the_way && shown) {
      if (!guard.may_visit({})) return;
      step = visit(seen);
      if (step == WalkStep::stop) return;
    }
    if (!folder || !inode || !guard.wants_inside(depth, step)) continue;
    const bool deleted = is_lost && seen.lost->state == EntryState::deleted;
    const Range place = volume_.inode_place(seen.number).value_or(Range{});
    if (!deleted && !entered.insert(seen.number).second) {
      guard.report_loop(FindingCode::ext_folder_loop, place, path.back());
      continue;
    }
    if (!guard.may_enter(levels.size(), place)) continue;
    const bool inside_lost = level.in_lost || is_lost;
    levels.push_back(level_of(*inode, inside_lost, deleted));
  }
}

}  // namespace lantern::ext
