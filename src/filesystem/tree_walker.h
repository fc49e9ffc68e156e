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

#include <fmt/format.h>

#include <optional>
#include <string>
#include <unordered_set>
#include <utility>
#include <vector>

#include "lantern/file_system.h"
#include "lantern/text.h"

namespace lantern {

// `visit` is given each node, its path, and the folder it is in (empty pointer: the root).
template <typename Tree, typename Visit>
void walk_tree(const Tree& tree, const WalkOptions& options, const Context& context,
               const Visit& visit) {
  struct Level {
    typename Tree::Reader reader;
    std::optional<typename Tree::Node> folder;
  };
  std::vector<Level> levels;
  levels.push_back({tree.root(), std::nullopt});
  std::vector<std::string> path;
  std::unordered_set<std::uint64_t> entered;
  std::uint64_t entries = 0;
  while (!levels.empty()) {
    std::optional<typename Tree::Node> node = levels.back().reader.next();
    if (!node) {
      levels.pop_back();
      continue;
    }
    if (++entries % 1024 == 0) context.check_cancelled();
    if (entries > context.budget.max_entries) {
      context.report(FindingCode::budget_entries, Severity::warning, tree.place(*node),
                     "more entries than the budget allows", "the rest are not listed");
      return;
    }
    const std::size_t depth = levels.size() - 1;
    const bool on_the_way = depth < options.under.size();
    if (on_the_way && !tree.same_name(tree.name(*node), options.under[depth])) continue;
    path.resize(depth + 1);
    path.back() = tree.name(*node);
    WalkStep step = WalkStep::go_on;
    if (!on_the_way && tree.shown(*node, options)) {
      const auto& folder = levels.back().folder;
      step = visit(*node, path, folder ? &*folder : nullptr);
      if (step == WalkStep::stop) return;
    }
    const auto key = tree.folder(*node);
    const bool deep_enough = !on_the_way && depth - options.under.size() + 1 >= options.max_depth;
    if (!key || step == WalkStep::skip_folder || deep_enough) continue;
    if (!entered.insert(*key).second) {
      context.report(
          tree.loop(), Severity::damage, tree.place(*node),
          fmt::format("the folder \"{}\" leads to a folder met before", for_terminal(path.back())),
          "it is not entered again");
      continue;
    }
    if (levels.size() > context.budget.max_depth) {
      context.report(FindingCode::budget_depth, Severity::warning, tree.place(*node),
                     "folders lie deeper than the budget allows", "what is below is not listed");
      continue;
    }
    typename Tree::Reader reader = tree.enter(*node);
    levels.push_back({std::move(reader), std::move(node)});
  }
}

}  // namespace lantern
