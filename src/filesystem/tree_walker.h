// The one walk of a tree of folders: depth first, as stored, with the budgets of entries and depth,
// a stop, and an end to folders that lead to one met before.
//
// `Tree` is a file system's own view of it:
//   Node                       an entry as stored
//   Reader                     of a folder: std::optional<Node> next()
//   Reader root() const, enter(const Node&) const
//   const std::string& name(const Node&) const
//   std::optional<std::uint64_t> folder(const Node&) const   what a folder is known by; else empty
//   Range place(const Node&) const                           of the volume, for findings
//   bool shown(const Node&, const WalkOptions&) const
//   bool same_name(const std::string&, const std::string&) const
//   FindingCode loop() const
//
// Thread-safety: one thread a walk.
#pragma once

#include <optional>
#include <string>
#include <unordered_set>
#include <utility>
#include <vector>

#include "filesystem/level_order.h"
#include "filesystem/walk_guard.h"
#include "lantern/file_system.h"

namespace lantern {

// `visit` is given each node, its path, and the folder it is in (empty pointer: the root).
template <typename Tree, typename Visit>
void walk_tree(const Tree& tree, const WalkOptions& options, const Context& context,
               const Visit& visit) {
  struct Level {
    typename Tree::Reader reader;
    std::optional<typename Tree::Node> folder;
    std::vector<typename Tree::Node> sorted;
    std::size_t next_sorted = 0;

    std::optional<typename Tree::Node> next() {
      if (sorted.empty()) return reader.next();
      if (next_sorted == sorted.size()) return std::nullopt;
      return std::move(sorted[next_sorted++]);
    }
  };
  const auto level_of = [&](typename Tree::Reader reader,
                            std::optional<typename Tree::Node> folder) {
    Level level{std::move(reader), std::move(folder), {}, 0};
    if (options.order == WalkOrder::as_stored) return level;
    while (auto node = level.reader.next()) {
      if (level.sorted.size() % 1024 == 0) context.check_cancelled();
      level.sorted.push_back(std::move(*node));
    }
    sort_level(level.sorted, options.order, [&](const typename Tree::Node& node) {
      return LevelKey{tree.name(node), tree.folder(node).has_value()};
    });
    return level;
  };
  std::vector<Level> levels;
  levels.push_back(level_of(tree.root(), std::nullopt));
  std::vector<std::string> path;
  std::unordered_set<std::uint64_t> entered;
  WalkGuard guard(options, context);
  while (!levels.empty()) {
    std::optional<typename Tree::Node> node = levels.back().next();
    if (!node) {
      levels.pop_back();
      continue;
    }
    guard.meet();
    const std::size_t depth = levels.size() - 1;
    const bool on_the_way = guard.on_the_way(depth);
    if (on_the_way && !tree.same_name(tree.name(*node), options.under[depth])) continue;
    path.resize(depth + 1);
    path.back() = tree.name(*node);
    WalkStep step = WalkStep::go_on;
    if (!on_the_way && tree.shown(*node, options)) {
      if (!guard.may_visit(tree.place(*node))) return;
      const auto& folder = levels.back().folder;
      step = visit(*node, path, folder ? &*folder : nullptr);
      if (step == WalkStep::stop) return;
    }
    const auto key = tree.folder(*node);
    if (!key || !guard.wants_inside(depth, step)) continue;
    if (!entered.insert(*key).second) {
      guard.report_loop(tree.loop(), tree.place(*node), path.back());
      continue;
    }
    if (!guard.may_enter(levels.size(), tree.place(*node))) continue;
    typename Tree::Reader reader = tree.enter(*node);
    levels.push_back(level_of(std::move(reader), std::move(node)));
  }
}

}  // namespace lantern
