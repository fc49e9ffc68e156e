#include "filesystem/tree_walker.h"

#include <gtest/gtest.h>

#include <map>

#include "kit/bytes.h"
#include "lantern/error.h"

namespace lantern {
namespace {

// Folders by number; an entry of number 0 is a file.
struct Made {
  struct Node {
    std::string name;
    std::uint64_t number = 0;
  };
  struct Reader {
    std::vector<Node> nodes;
    std::size_t at = 0;
    std::optional<Node> next() {
      return at < nodes.size() ? std::optional(nodes[at++]) : std::nullopt;
    }
  };
  std::map<std::uint64_t, std::vector<Node>> folders;

  Reader root() const { return {folders.at(1), 0}; }
  Reader enter(const Node& node) const { return {folders.at(node.number), 0}; }
  const std::string& name(const Node& node) const { return node.name; }
  std::optional<std::uint64_t> folder(const Node& node) const {
    return node.number == 0 ? std::nullopt : std::optional(node.number);
  }
  Range place(const Node& node) const { return {node.number, 1}; }
  bool shown(const Node& node, const WalkOptions&) const { return node.name != "hidden"; }
  bool same_name(const std::string& a, const std::string& b) const { return a == b; }
  FindingCode loop() const { return FindingCode::iso_folder; }
};

class TreeWalker : public ::testing::Test {
 protected:
  std::vector<std::string> walked(const Made& tree, const WalkOptions& options = {}) {
    std::vector<std::string> paths;
    walk_tree(tree, options, context_,
              [&](const Made::Node& node, const std::vector<std::string>& path,
                  const Made::Node* folder) {
                paths.push_back(path_text(path));
                EXPECT_EQ(folder == nullptr, path.size() == 1);
                if (node.name == "shut") return WalkStep::skip_folder;
                return node.name == "stop" ? WalkStep::stop : WalkStep::go_on;
              });
    return paths;
  }
  Context context_;
};

using Paths = std::vector<std::string>;

TEST_F(TreeWalker, GoesDepthFirstAndOnlyBelowThePathAsked) {
  const Made tree{
      {{1, {{"a", 2}, {"log"}, {"b", 3}}}, {2, {{"a", 4}, {"tide"}}}, {3, {{"x"}}}, {4, {{"y"}}}}};
  EXPECT_EQ(walked(tree), (Paths{"/a", "/a/a", "/a/a/y", "/a/tide", "/log", "/b", "/b/x"}));
  WalkOptions below;
  below.under = {"a"};
  EXPECT_EQ(walked(tree, below), (Paths{"/a/a", "/a/a/y", "/a/tide"}));
  below.max_depth = 1;
  EXPECT_EQ(walked(tree, below), (Paths{"/a/a", "/a/tide"}));
  WalkOptions flat;
  flat.max_depth = 1;
  EXPECT_EQ(walked(tree, flat), (Paths{"/a", "/log", "/b"}));
}

TEST_F(TreeWalker, WhatIsNotShownIsEnteredAllTheSame) {
  const Made tree{{{1, {{"hidden", 2}}}, {2, {{"log"}}}}};
  EXPECT_EQ(walked(tree), Paths{"/hidden/log"});
}

TEST_F(TreeWalker, AVisitorMayPassAFolderOverOrStop) {
  const Made tree{{{1, {{"shut", 2}, {"a"}, {"stop"}, {"b"}}}, {2, {{"log"}}}}};
  EXPECT_EQ(walked(tree), (Paths{"/shut", "/a", "/stop"}));
}

TEST_F(TreeWalker, AFolderMetBeforeIsNotEnteredAgain) {
  const Made tree{{{1, {{"a", 2}}}, {2, {{"b", 3}}}, {3, {{"again", 2}}}}};
  EXPECT_EQ(walked(tree), (Paths{"/a", "/a/b", "/a/b/again"}));
  EXPECT_EQ(kit::codes(context_), std::vector<std::string>{"iso.folder@2"});
}

TEST_F(TreeWalker, BudgetsOfDepthAndEntriesEndIt) {
  Made tree{{{1, {{"f", 2}}}}};
  for (std::uint64_t i = 2; i < 50; ++i) tree.folders[i] = {{"f", i + 1}};
  tree.folders[50] = {};
  context_.budget.max_depth = 10;
  EXPECT_EQ(walked(tree).size(), 11u);
  EXPECT_EQ(kit::codes(context_).size(), 1u);
  context_.budget.max_depth = 512;
  context_.budget.max_entries = 5;
  EXPECT_EQ(walked(tree).size(), 5u);
}

TEST_F(TreeWalker, AStopTakesEffectInALargeFolder) {
  Made tree{{{1, std::vector<Made::Node>(5000, {"log"})}}};
  context_.cancel = std::make_shared<std::atomic<bool>>(true);
  EXPECT_THROW(walked(tree), Error);
}

}  // namespace
}  // namespace lantern
