#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include "kit/bytes.h"
#include "lantern/error.h"
#include "lantern/sources.h"
#include "source/failing_source.h"

namespace lantern {
namespace {

using kit::Bytes;
using Codes = std::vector<std::string>;

TEST(FileSource, SaysWhyItCannotOpen) {
  const kit::Folder folder;
  const Context context;
  for (const std::string& path : {folder / "absent", folder.path(), std::string("/dev/null")}) {
    try {
      open_file_source(path, context);
      ADD_FAILURE() << path;
    } catch (const Error& error) {
      EXPECT_EQ(error.code(), ErrorCode::cannot_open);
      EXPECT_EQ(error.address(), path);
    }
  }
  const std::string pipe = folder / "pipe";
  ASSERT_EQ(mkfifo(pipe.c_str(), 0600), 0);
  EXPECT_THROW(open_file_source(pipe, context), Error) << "and does not hang";
}

// Zeros in place of what was cut off were passed on as data.
TEST(FileSource, AFileThatShrinksIsAnErrorAndNoData) {
  const kit::Folder folder;
  const std::string path = folder.file("card.img", kit::pattern(10'000, 1));
  const Context context;
  const SourcePtr source = open_file_source(path, context);
  ASSERT_EQ(truncate(path.c_str(), 4'000), 0);
  try {
    kit::read_all(*source);
    FAIL();
  } catch (const Error& error) {
    EXPECT_EQ(error.code(), ErrorCode::cannot_read);
    EXPECT_EQ(error.offset(), 4'000u);
  }
  // Nor is it a hole.
  EXPECT_THROW(source->extents({0, 10'000}, [](const Extent&) { return true; }), Error);
}

TEST(FileSource, LeavesTheAccessTimeAlone) {
  const kit::Folder folder;
  const std::string path = folder.file("card.img", kit::pattern(100, 1));
  const timespec old[2] = {{1'000'000'000, 0}, {1'000'000'000, 0}};
  ASSERT_EQ(utimensat(AT_FDCWD, path.c_str(), old, 0), 0);
  kit::read_all(*open_file_source(path, Context()));
  struct stat facts {};
  ASSERT_EQ(stat(path.c_str(), &facts), 0);
  EXPECT_EQ(facts.st_atim.tv_sec, 1'000'000'000);
}

TEST(FailingSource, FlakyRangesRecoverAndSlowOnesWait) {
  FaultPlan plan;
  plan.flaky.push_back({{100, 50}, 2});
  plan.slow.push_back({{0, 10}, std::chrono::milliseconds(7)});
  int waited = 0;
  const FailingSource sick(
      make_memory_source(kit::pattern(1'000, 1)), plan,
      [&](std::chrono::milliseconds delay) { waited += static_cast<int>(delay.count()); });
  Bytes piece(20);
  EXPECT_EQ(sick.read(110, piece).unreadable, (std::vector<Range>{{110, 20}}));
  EXPECT_EQ(sick.read(140, piece).unreadable, (std::vector<Range>{{140, 10}}));
  EXPECT_TRUE(sick.read(110, piece).unreadable.empty());
  EXPECT_EQ(waited, 0);
  sick.read(5, piece);
  EXPECT_EQ(waited, 7);
  EXPECT_EQ(sick.reads(), 4u);
}

TEST(SplitImage, AMissingPieceKeepsItsPlace) {
  const kit::Folder folder;
  const Bytes plain = kit::pattern(3'500, 4);
  folder.file("d.001", Bytes(plain.begin(), plain.begin() + 1'000));
  folder.file("d.003", Bytes(plain.begin() + 2'000, plain.begin() + 2'900));  // and short
  folder.file("d.004", Bytes(plain.begin() + 3'000, plain.end()));
  folder.file("d.0005", Bytes(9));
  folder.file("e.002", Bytes(9));
  const Context context;
  const auto near = host_neighbours(folder.path(), context);
  const auto whole =
      open_split_image("d.001", open_file_source(folder / "d.001", context), *near, context);
  ASSERT_TRUE(whole);
  std::vector<Range> lost;
  const Bytes got = kit::read_all(**whole, &lost);
  EXPECT_EQ(lost, (std::vector<Range>{{1'000, 1'000}, {2'900, 100}}));
  EXPECT_EQ(Bytes(got.begin() + 3'000, got.end()), Bytes(plain.begin() + 3'000, plain.end()));
  EXPECT_EQ(kit::codes(context), (Codes{"source.piece-missing@1000", "source.piece-size@2900"}));
}

TEST(SplitImage, ALaterPieceAloneIsToldToBeOne) {
  const kit::Folder folder;
  folder.file("d.001", Bytes(10));
  folder.file("d.002", Bytes(10));
  const Context context;
  const auto near = host_neighbours(folder.path(), context);
  EXPECT_FALSE(
      open_split_image("d.002", open_file_source(folder / "d.002", context), *near, context));
  EXPECT_EQ(kit::codes(context), Codes{"source.piece-of-split@0"});
  EXPECT_FALSE(
      open_split_image("d.img", open_file_source(folder / "d.001", context), *near, context));
}

TEST(Neighbours, AreFilesOfTheFolderAndNothingElse) {
  const kit::Folder folder;
  folder.file("in/a", Bytes(3));
  folder.file("out", Bytes(3));
  ASSERT_EQ(symlink("../out", (folder / "in/link").c_str()), 0);
  const auto near = host_neighbours(folder / "in", Context());
  EXPECT_EQ(near->names(), std::vector<std::string>{"a"});
  EXPECT_TRUE(near->open("a"));
  for (const char* name : {"../out", "link", "", ".", "..", "absent", "/etc/hostname"})
    EXPECT_FALSE(near->open(name)) << name;
}

TEST(Identity, TellsSameChangedAndOther) {
  const Bytes plain = kit::pattern(5'000'000, 1);
  const Identity before = identify(*make_memory_source(plain));
  EXPECT_EQ(compare(before, identify(*make_memory_source(plain))), IdentityMatch::same);
  EXPECT_EQ(compare(before, identify(*make_memory_source(kit::patched(plain, {{10, {0, 0}}})))),
            IdentityMatch::changed);
  EXPECT_EQ(compare(before, identify(*make_memory_source(kit::pattern(100, 1)))),
            IdentityMatch::other);
  EXPECT_EQ(identify(*make_memory_source({})).size_bytes, 0u);
}

}  // namespace
}  // namespace lantern
