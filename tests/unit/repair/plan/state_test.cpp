#include "repair/plan/state.h"

#include <gtest/gtest.h>

#include "kit/disk_builder.h"
#include "kit/fat_builder.h"
#include "lantern/sources.h"

namespace lantern::repair {
namespace {

using kit::FatBuilder;

AccessState one(VolumeState volume, std::set<std::string> facts = {}) {
  AccessState state;
  state.volumes[0] = std::move(volume);
  state.facts = std::move(facts);
  return state;
}

VolumeState readable(std::set<std::uint64_t> intact, bool verified = true) {
  VolumeState volume;
  volume.format = "fat";
  volume.type = "fat16";
  volume.verified = verified;
  volume.files = intact.size();
  volume.intact = std::move(intact);
  return volume;
}

TEST(StateChange, GainsAreWhatWasNotThere) {
  const StateChange change =
      change_between(one({}), one(readable({1, 2}), {"the flags of the entries are valid"}));
  EXPECT_EQ(change.volumes, 1u);
  EXPECT_EQ(change.files, 2u);
  EXPECT_TRUE(change.gains());
  EXPECT_EQ(change.words(), "1 more volume, 2 more intact files");
  EXPECT_TRUE(change.lost.empty());
}

TEST(StateChange, AnEmptyVolumeIsNoGain) {
  VolumeState empty = readable({});
  EXPECT_EQ(change_between(one({}), one(empty)).volumes, 0u);
}

TEST(StateChange, WhatIsGoneIsALoss) {
  EXPECT_EQ(change_between(one(readable({1, 2})), one({})).lost, "the volume at byte 0");
  EXPECT_EQ(change_between(one(readable({1, 2})), one(readable({1}))).lost, "1 file");
  EXPECT_EQ(change_between(one(readable({1, 2})), one(readable({1, 3}))).lost, "1 intact file");
  EXPECT_EQ(change_between(one(readable({1}), {"one entry is active"}), one(readable({1}))).lost,
            "one entry is active");
  EXPECT_EQ(change_between(one(readable({1})), one(readable({1}, false))).lost,
            "the first structure at byte 0");
  // What was read by a structure in doubt may be no files at all.
  EXPECT_EQ(change_between(one(readable({1}, false)), one(readable({2}))).lost, "");
}

TEST(StateChange, OneCoversAnotherWhenItGainsAsMuch) {
  const StateChange both = change_between(one({}), one(readable({1, 2})));
  const StateChange part = change_between(one(readable({1})), one(readable({1, 2})));
  EXPECT_TRUE(both.covers(part));
  EXPECT_FALSE(part.covers(both));
}

// A volume that no write touched is not opened again.
TEST(StateMeter, LooksAgainOnlyWhereSomethingWasWritten) {
  const kit::Folder folder;
  FatBuilder fat(FatBuilder::Width::fat16);
  fat.file(0, "log.txt", kit::pattern(100, 1), {10});
  const kit::Bytes volume = fat.bytes();
  const auto sectors = static_cast<std::uint32_t>(volume.size() / 512);
  kit::Bytes disk((2048 + 2 * sectors) * std::size_t{512});
  kit::put_mbr(disk, 0, {{0x06, 2048, sectors, false}, {0x06, 2048 + sectors, sectors, false}});
  kit::put_bytes(disk, 2048 * 512, volume);
  kit::put_bytes(disk, (2048 + sectors) * std::size_t{512}, volume);
  const std::string path = folder.file("disk.img", disk);
  const auto open = [&] { return Session({}, Context()).open_disk(Address::parse(path)); };
  StateMeter meter;
  const Context context;
  const AccessState before = meter.measure(open(), {}, context);
  EXPECT_EQ(before.reach().volumes, 2u);
  EXPECT_EQ(before.reach().files, 2u);
  const Target again = open();
  const std::vector<PlannedWrite> writes = {
      {path, (2048 + sectors) * std::uint64_t{512} + 100, {std::byte{0}}, {std::byte{1}}}};
  const AccessState after = meter.measure(again, writes, context);
  EXPECT_FALSE(again.disk().volumes[0].is_opened());
  EXPECT_TRUE(again.disk().volumes[1].is_opened());
  EXPECT_EQ(after.reach().files, 2u);
}

}  // namespace
}  // namespace lantern::repair
