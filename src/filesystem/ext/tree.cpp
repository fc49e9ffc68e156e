#include "filesystem/ext/tree.h"
#include "filesystem/level_order.h"
#include "filesystem/walk_guard.h"

#include <fmt/format.h>

#include "lantern/text.h"

namespace lantern::ext {

Tree::Level Tree::level_of(const Inode& inode, bool in_lost, bool is_lost) const {
  Level level;
  level.key = {inode.number, inode.generation};
  level.in_lost = in_lost;
  // What a deleted folder held, the index knows; one that only lost its name is read.
  if (!is_lost) level.reader.emplace(volume_, inode);
  if (index_ != nullptr) {
    const auto [from, to] = index_->children.equal_range(level.key);
    for (auto child = from; child != to; ++child) level.lost.push_back(child->second);
  }
  return level;
}

std::optional<Tree::Item> Tree::next_stored(Level& level) const {
  while (level.reader) {
    const FolderEntry* const entry = level.reader->next();
    if (entry == nullptr) {
      level.reader.reset();
      break;
    }
    if (entry->name == "." || entry->name == "..") continue;
    return Item{entry->name, entry->inode, entry->type, level.reader->place(), nullptr};
  }
  if (level.next_lost == level.lost.size()) return std::nullopt;
  const Lost& lost = index_->lost[level.lost[level.next_lost++]];
  return Item{lost.name, lost.inode.number, 0, 0, &lost};
}

std::optional<Tree::Item> Tree::next(Level& level, WalkOrder order) const {
  if (order == WalkOrder::as_stored) return next_stored(level);
  if (level.next_sorted == level.sorted.size()) return std::nullopt;
  return std::move(level.sorted[level.next_sorted++]);
}

void Tree::sort(Level& level, WalkOrder order) const {
  if (order == WalkOrder::as_stored) return;
  while (auto item = next_stored(level)) {
    if (level.sorted.size() % 1024 == 0) volume_.context.check_cancelled();
    level.sorted.push_back(std::move(*item));
  }
  sort_level(level.sorted, order, [&](const Item& item) {
    // Where the folder does not say what an entry is, its inode does.
    const bool asks = order == WalkOrder::by_folder && item.lost == nullptr && item.type == 0;
    const auto inode = asks ? volume_.inode(item.number) : std::nullopt;
    const bool is_folder = item.lost != nullptr ? item.lost->inode.folder()
                           : asks               ? inode && inode->folder()
                                                : item.type == 2;
    return LevelKey{item.name, is_folder};
  });
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
  if (index_ != nullptr) {
    // Those whose folder is not known stand in the root.
    const auto [from, to] = index_->children.equal_range({});
    for (auto child = from; child != to; ++child) levels.back().lost.push_back(child->second);
  }

  sort(levels.back(), options.order);

  while (!levels.empty()) {
    guard.meet();
    Level& level = levels.back();
    std::optional<Item> item = next(level, options.order);
    if (!item) {
      levels.pop_back();
      continue;
    }
    Visit seen{path,          nullptr,    item->number, item->lost,
               level.in_lost, item->type, level.key,    item->place};
    std::optional<Inode> inode;
    if (item->lost != nullptr) {
      if (item->lost->version != 0 && !options.versions) continue;
      // An orphan's folder lists its own; a lost entry is listed once.
      if (item->lost->version == 0 && !entered_lost.insert(item->lost->key()).second) continue;
      inode = item->lost->inode;
    }
    const bool is_lost = seen.lost != nullptr;
    const std::size_t depth = levels.size() - 1;
    const bool on_the_way = guard.on_the_way(depth);
    if (on_the_way && !same(item->name, options.under[depth])) continue;
    const bool shown = is_lost || level.in_lost ? options.deleted : options.active;
    if (!inode) inode = volume_.inode(seen.number);
    const bool folder = inode ? inode->folder() : seen.type == 2;
    if (!shown && !folder) continue;
    path.resize(depth + 1);
    path.back() = std::move(item->name);
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
    sort(levels.back(), options.order);
  }
}

}  // namespace lantern::ext
