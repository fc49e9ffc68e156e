#include "filesystem/walk_guard.h"

#include <gtest/gtest.h>

#include <atomic>

#include "filesystem/unix_mode.h"
#include "kit/bytes.h"
#include "lantern/error.h"

namespace lantern {
namespace {

TEST(WalkGuard, EndsAtTheBudgetOfEntriesWithOneFinding) {
  Context context;
  context.budget.max_entries = 2;
  const WalkOptions all;
  WalkGuard guard(all, context);
  EXPECT_TRUE(guard.may_visit({}));
  EXPECT_TRUE(guard.may_visit({}));
  EXPECT_FALSE(guard.may_visit({7, 1}));
  EXPECT_EQ(kit::codes(context), std::vector<std::string>{"budget.entries@7"});
}

TEST(WalkGuard, FoldersDeeperThanTheBudgetAreNotEntered) {
  Context context;
  context.budget.max_depth = 3;
  const WalkOptions all;
  const WalkGuard guard(all, context);
  EXPECT_TRUE(guard.may_enter(3, {}));
  EXPECT_FALSE(guard.may_enter(4, {5, 1}));
  EXPECT_EQ(kit::codes(context), std::vector<std::string>{"budget.depth@5"});
}

TEST(WalkGuard, GoesAsFarAsTheCallerWants) {
  const Context context;
  WalkOptions below;
  below.under = {"a", "b"};
  below.max_depth = 1;
  const WalkGuard guard(below, context);
  EXPECT_TRUE(guard.on_the_way(0));
  EXPECT_TRUE(guard.on_the_way(1));
  EXPECT_FALSE(guard.on_the_way(2));
  EXPECT_TRUE(guard.wants_inside(1, WalkStep::go_on)) << "the folder itself";
  EXPECT_FALSE(guard.wants_inside(2, WalkStep::go_on)) << "its folders";
  EXPECT_FALSE(guard.wants_inside(1, WalkStep::skip_folder));
  const WalkOptions all;
  EXPECT_TRUE(WalkGuard(all, context).wants_inside(1'000'000, WalkStep::go_on));
}

// Entries that are not shown count, too: a folder of millions on the way can be stopped.
TEST(WalkGuard, AStopTakesEffectWhateverIsVisited) {
  Context context;
  const auto stop = std::make_shared<std::atomic<bool>>(false);
  context.cancel = stop;
  const WalkOptions all;
  WalkGuard guard(all, context);
  for (int i = 0; i < 5000; ++i) guard.meet();
  *stop = true;
  EXPECT_THROW(for (int i = 0; i < 5000; ++i) guard.meet(), Error);
}

TEST(UnixMode, KindsOfEntries) {
  EXPECT_EQ(kind_of_mode(0100644), EntryKind::file);
  EXPECT_EQ(kind_of_mode(0040755), EntryKind::folder);
  EXPECT_EQ(kind_of_mode(0120777), EntryKind::symlink);
  EXPECT_EQ(kind_of_mode(0020600), EntryKind::char_device);
  EXPECT_EQ(kind_of_mode(0060600), EntryKind::block_device);
  EXPECT_EQ(kind_of_mode(0010600), EntryKind::fifo);
  EXPECT_EQ(kind_of_mode(0140600), EntryKind::socket);
  EXPECT_EQ(kind_of_mode(0644), std::nullopt);
  EXPECT_EQ(kind_of_mode(0170000), std::nullopt);
}

}  // namespace
}  // namespace lantern
