// Deleted files that lie among each other.
#include "recover/untangle.h"

#include <gtest/gtest.h>
#include <zlib.h>

#include <random>

#include "filesystem/fat/deleted/tangled.h"
#include "kit/bytes.h"
#include "kit/fat_builder.h"
#include "recover/placement.h"

namespace lantern {
namespace {

using kit::Bytes;
using kit::FatBuilder;
using Clusters = FatBuilder::Clusters;

constexpr std::uint32_t kStart = 100;  // of the clusters that are dealt out
constexpr std::size_t kCluster = 512;

Bytes log_of(std::size_t length, unsigned seed) {
  std::mt19937 random(seed);
  std::string text;
  while (text.size() < length)
    text += "ledge " + std::to_string(random() % 90) + ": " + std::to_string(random()) + " nests\n";
  text.resize(length);
  return kit::bytes_of(text);
}

// A gzip file of at least so many bytes.
Bytes packed(std::size_t length, unsigned seed) {
  const Bytes plain = log_of(length * 4, seed);
  z_stream stream{};
  EXPECT_EQ(::deflateInit2(&stream, 6, Z_DEFLATED, MAX_WBITS + 16, 8, Z_DEFAULT_STRATEGY), Z_OK);
  Bytes out(plain.size() + 100);
  stream.next_in = const_cast<Bytef*>(reinterpret_cast<const Bytef*>(plain.data()));
  stream.avail_in = static_cast<uInt>(plain.size());
  stream.next_out = reinterpret_cast<Bytef*>(out.data());
  stream.avail_out = static_cast<uInt>(out.size());
  EXPECT_EQ(::deflate(&stream, Z_FINISH), Z_STREAM_END);
  out.resize(out.size() - stream.avail_out);
  ::deflateEnd(&stream);
  EXPECT_GE(out.size(), length);
  return out;
}

std::size_t clusters_of(const Bytes& content) {
  return (content.size() + kCluster - 1) / kCluster;
}

// A volume with these files in its root, each in the clusters that `order` gives it, deleted.
struct Case {
  std::vector<Bytes> contents;
  std::vector<std::size_t> order;  // whose the clusters from kStart on are
  std::uint16_t later = 0;         // minutes between their dates

  std::shared_ptr<const FileSystem> volume(Context& context) const {
    FatBuilder builder(FatBuilder::Width::fat16);
    std::vector<Clusters> clusters(contents.size());
    for (std::size_t i = 0; i < order.size(); ++i)
      clusters[order[i]].push_back(kStart + static_cast<std::uint32_t>(i));
    std::vector<std::uint64_t> slots;
    for (std::size_t i = 0; i < contents.size(); ++i) {
      EXPECT_EQ(clusters[i].size(), clusters_of(contents[i]));
      FatBuilder::FileOptions dated;
      dated.time = static_cast<std::uint16_t>(dated.time + i * later * 32u);
      slots.push_back(
          builder.file(0, "count of ledge " + std::to_string(i), contents[i], clusters[i], dated));
    }
    for (std::size_t i = 0; i < contents.size(); ++i) builder.remove(slots[i], clusters[i]);
    return open_file_system(make_memory_source(builder.bytes()), {}, context);
  }
};

struct Found {
  Bytes bytes;
  Content content;
};

std::vector<Found> untangled(const FileSystem& files, const Context& context) {
  Untangler contents(files, context);
  WalkOptions all;
  all.deleted = true;
  std::vector<Found> found;
  files.walk(all, [&](const Entry& entry) {
    Content content = contents.open(entry);
    found.push_back({kit::read_all(*content.bytes), content});
    return WalkStep::go_on;
  });
  return found;
}

std::vector<std::size_t> in_turns(std::size_t a, std::size_t turn_a, std::size_t b,
                                  std::size_t turn_b) {
  std::vector<std::size_t> order;
  while (a > 0 || b > 0) {
    for (std::size_t i = 0; i < turn_a && a > 0; ++i, --a) order.push_back(0);
    for (std::size_t i = 0; i < turn_b && b > 0; ++i, --b) order.push_back(1);
  }
  return order;
}

TEST(Untangle, OneFileWithinAnother) {
  Context context;
  Case one{{packed(9000, 1), packed(2000, 2)}, {}, 0};
  one.order.assign(5, 0);
  one.order.insert(one.order.end(), clusters_of(one.contents[1]), 1);
  one.order.resize(clusters_of(one.contents[0]) + clusters_of(one.contents[1]), 0);
  const auto found = untangled(*one.volume(context), context);
  ASSERT_EQ(found.size(), 2u);
  EXPECT_EQ(found[0].bytes, one.contents[0]);
  EXPECT_EQ(found[1].bytes, one.contents[1]);
  EXPECT_NE(found[0].content.evidence.find("solved together with 1 other deleted file: one that "
                                           "began was written to its end before another went on; "
                                           "inferred"),
            std::string::npos)
      << found[0].content.evidence;
  // An inference is never certain: all behind the first gap is in doubt.
  ASSERT_EQ(found[0].content.doubtful.size(), 1u);
  EXPECT_EQ(found[0].content.doubtful[0],
            (Range{5 * kCluster, one.contents[0].size() - 5 * kCluster}));
  EXPECT_TRUE(found[0].content.lost.empty());
}

TEST(Untangle, FilesWrittenInTurn) {
  for (const auto& [turn_a, turn_b] : {std::pair{1u, 1u}, {2u, 2u}, {4u, 1u}, {1u, 8u}, {3u, 2u}}) {
    Context context;
    Case one{{packed(9000, 3), packed(7000, 4)}, {}, 0};
    one.order =
        in_turns(clusters_of(one.contents[0]), turn_a, clusters_of(one.contents[1]), turn_b);
    const auto found = untangled(*one.volume(context), context);
    ASSERT_EQ(found.size(), 2u);
    EXPECT_EQ(found[0].bytes, one.contents[0]) << turn_a << " and " << turn_b;
    EXPECT_EQ(found[1].bytes, one.contents[1]) << turn_a << " and " << turn_b;
  }
}

TEST(Untangle, WhatIsKnownTellsTheRest) {
  // Nothing in the second says where it goes on, but the first takes its own, and the rest is left.
  Context context;
  Case one{{packed(9000, 5), kit::pattern(6001, 6)}, {}, 0};
  one.order = in_turns(clusters_of(one.contents[0]), 2, clusters_of(one.contents[1]), 2);
  const auto found = untangled(*one.volume(context), context);
  ASSERT_EQ(found.size(), 2u);
  EXPECT_EQ(found[0].bytes, one.contents[0]);
  EXPECT_EQ(found[1].bytes, one.contents[1]);
}

TEST(Untangle, TextIsToldApart) {
  Context context;
  Case one{{log_of(9000, 7), kit::pattern(7001, 8)}, {}, 0};
  std::mt19937 random(5);
  std::vector<std::size_t> left = {clusters_of(one.contents[0]), clusters_of(one.contents[1])};
  one.order = {0};
  --left[0];
  while (left[0] + left[1] > 0) {
    const std::size_t who = left[0] == 0 ? 1 : left[1] == 0 ? 0 : random() % 2;
    one.order.push_back(who);
    --left[who];
  }
  const auto found = untangled(*one.volume(context), context);
  ASSERT_EQ(found.size(), 2u);
  EXPECT_EQ(found[0].bytes, one.contents[0]);
  EXPECT_EQ(found[1].bytes, one.contents[1]);
}

TEST(Untangle, OneWrittenOverAnotherTakesItsPlace) {
  // The second was written over the middle of the first: it is whole, and the first says what it
  // has lost.
  Context context;
  FatBuilder builder(FatBuilder::Width::fat16);
  const Bytes first = packed(9000, 9), second = packed(2000, 10);
  const auto run = [](std::uint32_t from, std::size_t count) {
    Clusters clusters;
    for (std::uint32_t i = 0; i < count; ++i) clusters.push_back(from + i);
    return clusters;
  };
  const Clusters of_first = run(kStart, clusters_of(first));
  const Clusters of_second = run(kStart + 5, clusters_of(second));
  builder.remove(builder.file(0, "first count", first, of_first), of_first);
  builder.remove(builder.file(0, "second count", second, of_second), of_second);
  const auto files = open_file_system(make_memory_source(builder.bytes()), {}, context);
  const auto found = untangled(*files, context);
  ASSERT_EQ(found.size(), 2u);
  EXPECT_EQ(found[1].bytes, second);
  ASSERT_EQ(found[0].content.lost.size(), 1u);
  EXPECT_EQ(found[0].content.lost[0], (Range{5 * kCluster, of_second.size() * kCluster}));
  EXPECT_NE(found[0].content.evidence.find("hold another whose content fits there"),
            std::string::npos);
  for (std::size_t at = 0; at < 5 * kCluster; ++at) ASSERT_EQ(found[0].bytes[at], first[at]);
  for (std::size_t at = found[0].content.lost[0].end(); at < first.size(); ++at)
    ASSERT_EQ(found[0].bytes[at], first[at]);
}

TEST(Untangle, WithNothingToTellByAllStaysAsItsRuleHasIt) {
  Context context;
  Case one{{kit::pattern(5120, 11), kit::pattern(4096, 12)}, {}, 0};
  one.order = in_turns(10, 1, 8, 1);
  one.later = 10;
  const auto files = one.volume(context);
  for (const Found& each : untangled(*files, context)) {
    EXPECT_TRUE(each.content.evidence.empty()) << each.content.evidence;
    EXPECT_FALSE(each.content.doubtful.empty());
  }
}

TEST(Untangle, FilesThatLieAloneAreNoTangle) {
  Context context;
  Case one{{packed(3000, 13), packed(2000, 14)}, {}, 0};
  one.order.assign(clusters_of(one.contents[0]), 0);
  one.order.resize(one.order.size() + clusters_of(one.contents[1]), 1);
  const auto files = one.volume(context);
  WalkOptions all;
  all.deleted = true;
  files->walk(all, [&](const Entry& entry) {
    EXPECT_FALSE(files->tangle(entry));
    return WalkStep::go_on;
  });
}

TEST(Untangle, WithoutBudgetNothingIsReadTwice) {
  Context context;
  Case one{{packed(9000, 15), packed(7000, 16)}, {}, 0};
  one.order = in_turns(clusters_of(one.contents[0]), 1, clusters_of(one.contents[1]), 1);
  const auto files = one.volume(context);
  const auto entry = files->find({"count of ledge 0"}).front();
  const auto tangle = files->tangle(entry);
  ASSERT_TRUE(tangle);
  std::uint64_t budget = 0;
  EXPECT_EQ(solve_tangle(*tangle, budget, context).size(), 2u);
  EXPECT_EQ(budget, 0u);
}

// --- Groups ---

fat::Start start(std::uint32_t first, std::uint64_t clusters) {
  fat::Start made;
  made.slot_offset = first;
  made.first = first;
  made.clusters = clusters;
  return made;
}

TEST(Tangled, GroupsEndWhereAllHaveTheirClusters) {
  const auto free = [](std::uint32_t cluster) { return cluster < 20 || cluster > 25; };
  const auto groups = fat::tangled(
      {start(10, 5), start(12, 5), start(40, 3), start(43, 2), start(60, 4), start(61, 1)}, 1000,
      free);
  ASSERT_EQ(groups.size(), 2u);
  ASSERT_EQ(groups[0].members.size(), 2u);
  EXPECT_EQ(groups[0].clusters, (std::vector<fat::ClusterRun>{{10, 10}}));
  EXPECT_EQ(groups[1].members[0].first, 60u);
  EXPECT_EQ(groups[1].clusters, (std::vector<fat::ClusterRun>{{60, 5}}));
}

TEST(Tangled, PassesOverWhatIsInUseAndStopsAtTheEnd) {
  const auto free = [](std::uint32_t cluster) { return cluster < 20 || cluster > 25; };
  const auto groups = fat::tangled({start(15, 8), start(17, 900)}, 100, free);
  ASSERT_EQ(groups.size(), 1u);
  EXPECT_EQ(groups[0].clusters, (std::vector<fat::ClusterRun>{{15, 5}, {26, 74}}));
}

TEST(Tangled, HostileSizesMakeNoLargeGroups) {
  std::vector<fat::Start> many;
  for (std::uint32_t i = 0; i < 100'000; ++i) many.push_back(start(i + 2, 8'388'608));
  EXPECT_TRUE(fat::tangled(many, 110'000, [](std::uint32_t) { return true; }).empty());
}

// --- Ways ---

TEST(Placement, FilesWithMoreClustersThanThereAreComeOutShort) {
  Tangle tangle;
  tangle.place_bytes = 10;
  tangle.places = {0, 10, 20, 30};
  tangle.members = {{"a", 30, 0, {}, {}}, {"b", 1000, 2, {}, {}}};
  const OpenTangle open{tangle, {0, 1}, std::vector<bool>(4)};
  EXPECT_EQ(in_one_run(open), (Placement{{0, 1, 2}, {2, 3}}));
  EXPECT_EQ(one_within_another(open), (Placement{{0, 1}, {2, 3}}));
  EXPECT_EQ(in_turn(open, 1), (Placement{{0, 1, 3}, {2}}));
}

TEST(Placement, TakenPlacesAreAnothers) {
  Tangle tangle;
  tangle.place_bytes = 10;
  tangle.places = {0, 10, 20, 30};
  tangle.members = {{"a", 30, 0, {}, {}}};
  const OpenTangle open{tangle, {0}, {false, true, false, false}};
  EXPECT_EQ(in_one_run(open), (Placement{{0, kLostPlace, 2}}));
  EXPECT_EQ(one_within_another(open), (Placement{{0, 2, 3}}));
}

}  // namespace
}  // namespace lantern
