#include <gtest/gtest.h>

#include "base/store.h"
#include "lantern/sources.h"
#include "serve/net/iscsi/scsi/unit.h"

namespace lantern::scsi {
namespace {

constexpr std::size_t kBlocks = 64;
const std::vector<std::uint64_t> kUnits = {0};

// A disk in memory as a unit.
struct Bench {
  explicit Bench(std::uint32_t sector = 512)
      : raw{"disk", "station.img", {0, kBlocks * 512}, {}, sector} {
    auto disk = std::make_shared<DiskLayer>();
    disk->address.first = "station.img";
    Bytes bytes(kBlocks * 512);
    for (std::size_t i = 0; i < bytes.size(); ++i) bytes[i] = static_cast<std::byte>(i / 512);
    disk->bytes = make_memory_source(std::move(bytes));
    Target target;
    target.disks = {disk};
    live = std::make_unique<LiveDisk>(target, Session({}, Context()), WriteOptions{});
    unit = std::make_unique<Unit>(*live, raw, "iqn.2026-11.internal.lantern:station");
  }
  Task begin(std::initializer_list<int> cdb, const Nexus& nexus = "one") {
    Bytes bytes(16);
    std::size_t at = 0;
    for (const int value : cdb) bytes[at++] = static_cast<std::byte>(value);
    return unit->begin(nexus, bytes, kUnits);
  }
  LiveDisk::Raw raw;
  std::unique_ptr<LiveDisk> live;
  std::unique_ptr<Unit> unit;
};

TEST(ScsiUnit, AReadNamesTheBytesOfItsBlocks) {
  Bench bench;
  const Task six = bench.begin({0x08, 0, 0, 2, 3}),
             ten = bench.begin({0x28, 0, 0, 0, 0, 2, 0, 0, 3});
  const Task all = bench.begin({0x08, 0, 0, 0, 0});
  EXPECT_EQ(six.reads, (Range{1024, 1536}));
  EXPECT_EQ(ten.reads, six.reads);
  EXPECT_EQ(all.fault, kPastTheEnd) << "no blocks are 256 in six bytes";
  Task task = ten;
  Bytes out(1536);
  EXPECT_EQ(bench.unit->read(task, 1024, out), 1536u);
  EXPECT_EQ(out[512], std::byte{3});
}

TEST(ScsiUnit, WhatCannotBeIsRefusedWithItsPlace) {
  Bench bench;
  EXPECT_EQ(
      bench.begin({0x88, 0, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255}).fault,
      kPastTheEnd);
  EXPECT_EQ(bench.begin({0x28, 0x20, 0, 0, 0, 0, 0, 0, 1}).fault, wrong_field(1)) << "protection";
  EXPECT_EQ(bench.begin({0x2A, 0, 0, 0, 0, 0, 0, 0, 1}).fault, kReadOnly);
  EXPECT_EQ(bench.begin({0x9E, 0x1F}).fault, wrong_field(1)) << "an action there is not";
  EXPECT_EQ(bench.begin({0xFF}).fault, kNoSuchCommand);
  EXPECT_EQ(bench.begin({0x12, 1, 0x99, 0, 255}).fault, wrong_field(2)) << "a page there is not";
  EXPECT_EQ(bench.begin({0x1A, 0, 0xFF, 0, 255}).fault, kNothingSaved);
  const Bytes sense = sense_of(wrong_field(7));
  EXPECT_EQ(u8(sense, 2), kIllegalRequest);
  EXPECT_EQ(be16(sense, 12), 0x2400);
  EXPECT_EQ(u8(sense, 15), 0xC0);
  EXPECT_EQ(be16(sense, 16), 7);
  EXPECT_EQ(u8(sense_of(unreadable_at(5)), 0), 0xF0);
  EXPECT_EQ(u8(sense_of(unreadable_at(1ull << 40)), 0), 0x70) << "does not fit: is not told";
}

TEST(ScsiUnit, AnswersAreCutToWhatIsWanted) {
  Bench bench;
  EXPECT_EQ(bench.begin({0x12, 0, 0, 0, 36}).answer.size(), 36u);
  EXPECT_EQ(bench.begin({0x12, 0, 0, 0, 255}).answer.size(), 96u);
  EXPECT_EQ(bench.begin({0x25}).answer.size(), 8u);
  EXPECT_EQ(be32(bench.begin({0x25}).answer, 0), kBlocks - 1);
  EXPECT_TRUE(bench.begin({0x9E, 0x10}).answer.empty()) << "none is wanted";
  EXPECT_EQ(be64(bench.begin({0x9E, 0x10, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 32}).answer, 0),
            kBlocks - 1);
  EXPECT_EQ(Bench(4096).unit->facts().blocks, kBlocks / 8);
}

TEST(ScsiUnit, AllItSaysItKnowsItKnows) {
  Fault fault;
  Bytes ask(16);
  ask[0] = std::byte{0xA3};
  ask[1] = std::byte{0x0C};
  const Bytes list = command_list(ask, fault);
  ASSERT_EQ(be32(list, 0), list.size() - 4);
  for (std::size_t at = 4; at < list.size(); at += 8) {
    Bytes cdb(16);
    cdb[0] = list[at];
    cdb[1] = list[at + 3];
    EXPECT_NE(find_command(cdb), nullptr) << int{u8(list, at)};
    Bytes one = ask;
    const bool service = (u8(list, at + 5) & 1) != 0;
    one[2] = std::byte{static_cast<unsigned char>(service ? 2 : 1)};
    one[3] = list[at];
    one[5] = list[at + 3];
    const Bytes told = command_list(one, fault);
    EXPECT_EQ(fault, kOk);
    EXPECT_EQ(u8(told, 1), 3) << "supported as the standard has it";
    EXPECT_EQ(told[4], list[at]);
    EXPECT_EQ(told.size(), 4u + be16(list, at + 6));
  }
}

TEST(ScsiUnit, ModesThatStandMayBeSelectedAndNoOthers) {
  const Facts facts{"disk", "0123456789abcdef", "t", kBlocks, 512, 512, false, false};
  Bytes sense(16), select(16);
  sense[0] = std::byte{0x1A};
  sense[2] = std::byte{0x3F};
  select[0] = std::byte{0x15};
  Fault fault;
  Bytes modes = mode_sense(facts, sense, fault);
  EXPECT_EQ(u8(modes, 2) & 0x80, 0x80) << "write-protected";
  modes[0] = modes[2] = std::byte{0};
  EXPECT_FALSE(mode_select(facts, select, modes));
  Bytes other = modes;
  other[12 + 2] ^= std::byte{0x04};
  EXPECT_EQ(mode_select(facts, select, other), wrong_parameter(14));
  for (std::size_t length = 1; length < modes.size(); ++length) {
    const auto found = mode_select(facts, select, ByteView(modes).first(length));
    const bool border = length == 12 || length == 32 || length == 44;
    EXPECT_EQ(found.has_value(), !border) << length;
  }
}

TEST(ScsiUnit, WhatANexusHasToBeToldComesFirst) {
  Bench bench;
  bench.unit->began("one");
  EXPECT_FALSE(bench.begin({0x12, 0, 0, 0, 36}).failed()) << "but for what asks who is there";
  EXPECT_EQ(bench.begin({0x00}).fault, kNewNexus);
  EXPECT_FALSE(bench.begin({0x00}).failed());
  const Task under_way = bench.begin({0x28, 0, 0, 0, 0, 2, 0, 0, 3});
  bench.unit->reset();
  EXPECT_TRUE(bench.unit->is_over(under_way));
  EXPECT_EQ(be16(bench.begin({0x03, 0, 0, 0, 18}).answer, 12), kWasReset.code)
      << "asked for by name";
  EXPECT_FALSE(bench.begin({0x00}).failed());
}

// PERSISTENT RESERVE OUT of an action, a type, a key and another.
Status change(Reservations& all, const Nexus& nexus, int action, int type, std::uint64_t key,
              std::uint64_t other) {
  Bytes cdb(16), list(24);
  cdb[1] = static_cast<std::byte>(action);
  cdb[2] = static_cast<std::byte>(type);
  store_be64(list, 0, key);
  store_be64(list, 8, other);
  Fault fault;
  return all.change(nexus, cdb, list, fault);
}

struct Rule {
  int type;
  bool registered_reads, registered_writes, stranger_reads, stranger_writes;
};

TEST(Reservations, EachTypeKeepsOutWhomItSays) {
  for (const Rule& rule : std::vector<Rule>{{1, true, false, true, false},
                                            {3, false, false, false, false},
                                            {5, true, true, true, false},
                                            {6, true, true, false, false},
                                            {7, true, true, true, false},
                                            {8, true, true, false, false}}) {
    Reservations all([](const Nexus&, const Fault&) {});
    EXPECT_EQ(change(all, "keeper", 0, 0, 0, 11), Status::good);
    EXPECT_EQ(change(all, "bench", 0, 0, 0, 12), Status::good);
    EXPECT_EQ(change(all, "keeper", 1, rule.type, 11, 0), Status::good);
    EXPECT_TRUE(all.allows("keeper", Needs::to_write));
    EXPECT_EQ(all.allows("bench", Needs::to_read), rule.registered_reads) << rule.type;
    EXPECT_EQ(all.allows("bench", Needs::to_write), rule.registered_writes) << rule.type;
    EXPECT_EQ(all.allows("stranger", Needs::to_read), rule.stranger_reads) << rule.type;
    EXPECT_EQ(all.allows("stranger", Needs::to_write), rule.stranger_writes) << rule.type;
    EXPECT_TRUE(all.allows("stranger", Needs::nothing));
    // It ends with who holds it; where all do, with the last.
    EXPECT_EQ(change(all, "keeper", 0, 0, 11, 0), Status::good);
    EXPECT_EQ(all.allows("stranger", Needs::to_write), rule.type < 7);
  }
}

TEST(Reservations, OnlyWhoKnowsItsKeyChangesThem) {
  std::vector<std::pair<Nexus, Fault>> told;
  Reservations all(
      [&](const Nexus& nexus, const Fault& fault) { told.emplace_back(nexus, fault); });
  EXPECT_EQ(change(all, "keeper", 1, 3, 0, 0), Status::conflict) << "not registered";
  EXPECT_EQ(change(all, "keeper", 0, 0, 5, 11), Status::conflict) << "a key it does not have";
  EXPECT_EQ(change(all, "keeper", 6, 0, 5, 11), Status::good) << "whatever it was";
  EXPECT_EQ(change(all, "bench", 0, 0, 0, 12), Status::good);
  EXPECT_EQ(change(all, "keeper", 1, 3, 12, 0), Status::conflict);
  EXPECT_EQ(change(all, "keeper", 1, 3, 11, 0), Status::good);
  EXPECT_EQ(change(all, "bench", 1, 3, 12, 0), Status::conflict) << "it is held";
  EXPECT_EQ(change(all, "bench", 2, 3, 12, 0), Status::good) << "nothing of its own to let go";
  EXPECT_FALSE(all.allows("bench", Needs::to_read));
  EXPECT_EQ(change(all, "bench", 4, 3, 12, 99), Status::conflict) << "a key nobody has";
  EXPECT_EQ(change(all, "bench", 4, 1, 12, 11), Status::good) << "preempted";
  ASSERT_EQ(told.size(), 1u);
  EXPECT_EQ(told[0].first, "keeper");
  EXPECT_EQ(told[0].second.code, 0x2A05);
  EXPECT_TRUE(all.allows("keeper", Needs::to_read));
  EXPECT_FALSE(all.allows("keeper", Needs::to_write));
  EXPECT_EQ(change(all, "bench", 3, 0, 12, 0), Status::good) << "cleared";
  EXPECT_TRUE(all.allows("keeper", Needs::to_write));
}

TEST(Reservations, NoMoreRegisterThanThereIsRoomFor) {
  Reservations all([](const Nexus&, const Fault&) {});
  for (std::size_t i = 0; i < Reservations::kMaxRegistered; ++i)
    ASSERT_EQ(change(all, std::to_string(i), 0, 0, 0, 1), Status::good);
  EXPECT_EQ(change(all, "one more", 0, 0, 0, 1), Status::full);
  Bytes cdb(16);
  EXPECT_EQ(be32(all.list(cdb), 4), 8 * Reservations::kMaxRegistered);
}

TEST(Reservations, TheOlderKindEndsWithTheSession) {
  Reservations all([](const Nexus&, const Fault&) {});
  EXPECT_EQ(all.reserve("keeper"), Status::good);
  EXPECT_EQ(all.reserve("bench"), Status::conflict);
  EXPECT_FALSE(all.allows("bench", Needs::to_read));
  all.release("bench");
  EXPECT_FALSE(all.allows("bench", Needs::to_read)) << "it is not its own";
  all.ended("keeper");
  EXPECT_TRUE(all.allows("bench", Needs::to_write));
}

}  // namespace
}  // namespace lantern::scsi
