#include "lantern/physical/mapping.h"

#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>

#include "container/vmdk/descriptor.h"
#include "kit/disk_builder.h"
#include "lantern/error.h"
#include "lantern/host/simulation.h"
#include "lantern/physical/keep_off.h"

namespace lantern {
namespace {

constexpr std::uint64_t kMiB = 1u << 20;

// A disk with three partitions, a gap of 4 MiB behind the second, as a simulation has it.
class MappingTest : public testing::Test {
 protected:
  MappingTest() {
    const kit::Bytes part = kit::pattern(kMiB, 3);
    kit::Bytes disk;
    for (int i = 0; i < 24; ++i) disk.insert(disk.end(), part.begin(), part.end());
    std::fill_n(disk.begin(), 34 * 512, std::byte{0});
    std::fill_n(disk.end() - 33 * 512, 33 * 512, std::byte{0});
    kit::put_gpt(disk, 512, {{2048, 10239, "one"}, {10240, 20479, "two"}, {28672, 40959, "three"}});
    folder_.file("disk.img", disk);
    simulate("");
  }
  void simulate(const std::string& more) {
    std::ofstream(folder_ / "bench.json")
        << R"({"simulated_disks":[{"image":"disk.img","serial":"SK-1")" << more << "}]}";
    OpenOptions options;
    options.host = simulated_host(folder_ / "bench.json", this_host());
    session_ = Session(options);
  }
  DiskMap plan(const std::vector<std::string>& what,
               DescriptorKind kind = DescriptorKind::flat_extents) {
    MapRequest request;
    for (const std::string& each : what) request.what.push_back(Address::parse(each));
    request.out = folder_ / "map.vmdk";
    request.kind = kind;
    return plan_map(request, session_);
  }
  ErrorCode refusal(const std::vector<std::string>& what) {
    try {
      plan(what);
    } catch (const Error& error) {
      return error.code();
    }
    ADD_FAILURE() << "it was planned";
    return ErrorCode::usage;
  }
  std::vector<CheckedMap> check() { return check_maps(folder_.path(), session_); }

  kit::Folder folder_;
  Session session_;
};

TEST_F(MappingTest, TheWholeDiskIsOneExtent) {
  const DiskMap map = plan({"disk:SK-1"});
  ASSERT_EQ(map.extents.size(), 1u);
  EXPECT_EQ(map.extents[0].kind, MapExtent::Kind::device);
  EXPECT_EQ(map.extents[0].range, (Range{0, 24 * kMiB}));
}

TEST_F(MappingTest, OutsideThePartitionsThereArePrivateFilesWithoutGaps) {
  const DiskMap map = plan({"disk:SK-1::1", "disk:SK-1::3"});
  using Kind = MapExtent::Kind;
  std::vector<std::pair<Kind, Range>> found;
  for (const MapExtent& extent : map.extents) found.emplace_back(extent.kind, extent.range);
  const std::vector<std::pair<Kind, Range>> expected = {
      {Kind::own_file, {0, 2048 * 512}},
      {Kind::device, {2048 * 512, 8192 * 512}},
      {Kind::own_file, {10240 * 512, 18432 * 512}},
      {Kind::device, {28672 * 512, 12288 * 512}},
      {Kind::own_file, {40960 * 512, 24 * kMiB - 40960 * 512}}};
  EXPECT_EQ(found, expected);
  EXPECT_TRUE(map.shares_device());
  // Of the gap behind the second partition the start, of the second itself nothing.
  EXPECT_EQ(map.extents[2].copied, (std::vector<Range>{{20480 * 512, kMiB}}));
  // The copy of the table at the end of the disk.
  EXPECT_EQ(map.extents[4].copied.back().end(), 24 * kMiB);
}

TEST_F(MappingTest, WhereZerosNeedNoFileOnlyBootAreasHaveOne) {
  const DiskMap map = plan({"disk:SK-1::1"}, DescriptorKind::device_extents);
  std::uint64_t at = 0, own = 0;
  for (const MapExtent& extent : map.extents) {
    EXPECT_EQ(extent.range.offset, at);
    at = extent.range.end();
    if (extent.kind == MapExtent::Kind::own_file) own += extent.range.length;
  }
  EXPECT_EQ(at, 24 * kMiB);
  EXPECT_LE(own, 4 * kMiB);
}

TEST_F(MappingTest, TheDescriptorIsReadAsItWasWritten) {
  const DiskMap map = plan({"disk:SK-1::2"});
  write_map(map, session_);
  const VmdkDescriptor read =
      parse_vmdk_descriptor(kit::text_of(kit::read_file(folder_ / "map.vmdk")));
  ASSERT_TRUE(read.record);
  EXPECT_EQ(read.record->disk, "SK-1");
  EXPECT_EQ(read.record->size_bytes, 24 * kMiB);
  ASSERT_EQ(read.record->parts.size(), 1u);
  EXPECT_EQ(read.record->parts[0].range, (Range{10240 * 512, 10240 * 512}));
  ASSERT_EQ(read.extents.size(), 3u);
  EXPECT_EQ(read.extents[0].file, "map-private-0.raw");
  EXPECT_EQ(read.extents[1].first_sector, 10240u);
  // The table and what is behind it, but no byte of a partition.
  const kit::Bytes disk = kit::read_file(folder_ / "disk.img");
  const kit::Bytes own = kit::read_file(folder_ / "map-private-0.raw");
  EXPECT_TRUE(std::equal(own.begin(), own.begin() + 2048 * 512, disk.begin()));
  EXPECT_TRUE(std::all_of(own.begin() + 2048 * 512, own.end(),
                          [](std::byte each) { return each == std::byte{0}; }));
}

TEST_F(MappingTest, WhatWouldDoHarmIsRefused) {
  EXPECT_EQ(refusal({"disk:SK-1", "disk:SK-1::1"}), ErrorCode::usage);
  EXPECT_EQ(refusal({"disk:SK-1::1", "disk:SK-1::1"}), ErrorCode::usage);
  EXPECT_EQ(refusal({folder_ / "disk.img"}), ErrorCode::refused) << "by the path it has now";
  EXPECT_EQ(refusal({"disk:SK-2"}), ErrorCode::not_found);
  simulate(R"(,"computers_own":true)");
  EXPECT_EQ(refusal({"disk:SK-1"}), ErrorCode::refused);
  simulate(R"(,"mounted":[{"partition":2,"on":"/srv"}])");
  EXPECT_EQ(refusal({"disk:SK-1"}), ErrorCode::refused);
  EXPECT_EQ(refusal({"disk:SK-1::2"}), ErrorCode::refused);
  EXPECT_EQ(plan({"disk:SK-1::1"}).partitions.size(), 1u) << "another one is free";
  simulate(R"(,"used_by":["open in a backup"])");
  EXPECT_EQ(refusal({"disk:SK-1::1"}), ErrorCode::refused);
}

TEST_F(MappingTest, AMachineThatWouldMisreadTheTableIsRefused) {
  kit::Bytes disk(24 * kMiB);
  kit::put_gpt(disk, 4096, {{256, 1023, "one"}});
  folder_.file("disk.img", disk);
  simulate(R"(,"sector_bytes":4096)");
  EXPECT_EQ(refusal({"disk:SK-1"}), ErrorCode::refused);
  MapRequest request;
  request.what = {Address::parse("disk:SK-1")};
  request.out = folder_ / "map.vmdk";
  request.machine_sector_bytes = 4096;
  EXPECT_EQ(plan_map(request, session_).machine_sector_bytes, 4096u);
  // A bridge may present other sectors than the table was made for.
  simulate("");
  EXPECT_EQ(refusal({"disk:SK-1"}), ErrorCode::refused);
  // Without a table it is what the disk has.
  folder_.file("disk.img", kit::Bytes(24 * kMiB));
  simulate("");
  EXPECT_THROW(plan_map(request, session_), Error);
}

TEST_F(MappingTest, NothingThatIsThereIsReplacedAndNothingHalfDoneStays) {
  const DiskMap map = plan({"disk:SK-1::1"});
  folder_.file("map-private-10240.raw", {});
  EXPECT_THROW(plan({"disk:SK-1::1"}), Error);
  EXPECT_THROW(write_map(map, session_), Error);
  EXPECT_FALSE(std::filesystem::exists(folder_ / "map-private-0.raw"));
  EXPECT_FALSE(std::filesystem::exists(folder_ / "map.vmdk"));
}

TEST_F(MappingTest, StaleDescriptorsAreFoundAndPutRight) {
  write_map(plan({"disk:SK-1::1"}), session_);
  ASSERT_EQ(check().size(), 1u);
  EXPECT_EQ(check()[0].state, MapState::good);
  // The disk is another file now.
  std::filesystem::copy_file(folder_ / "disk.img", folder_ / "moved.img");
  std::ofstream(folder_ / "bench.json")
      << R"({"simulated_disks":[{"image":"moved.img","serial":"SK-1"}]})";
  OpenOptions options;
  options.host = simulated_host(folder_ / "bench.json", this_host());
  session_ = Session(options);
  EXPECT_EQ(check()[0].state, MapState::renumbered);
  fix_map(check()[0], session_);
  EXPECT_EQ(check()[0].state, MapState::good);
  std::filesystem::resize_file(folder_ / "map-private-0.raw", 512);
  EXPECT_EQ(check()[0].state, MapState::edited);
  EXPECT_EQ(check()[0].cure, "") << "what the machine wrote there is lost";
}

TEST_F(MappingTest, DescriptorsOfAnotherHandAreNotTouched) {
  std::ofstream(folder_ / "other.vmdk") << "# Disk DescriptorFile\ncreateType=\"fullDevice\"\n"
                                        << "RW 1 FLAT \"/dev/null\" 0\n";
  std::ofstream(folder_ / "gone.vmdk") << "# Disk DescriptorFile\ncreateType=\"fullDevice\"\n"
                                       << "RW 1 FLAT \"/dev/no-such-disk\" 0\n";
  std::ofstream(folder_ / "image.vmdk") << "# Disk DescriptorFile\nRW 1 FLAT \"a-flat.vmdk\" 0\n";
  const auto found = check();
  ASSERT_EQ(found.size(), 2u);
  EXPECT_EQ(found[0].state, MapState::gone);
  EXPECT_EQ(found[1].state, MapState::unknown);
  EXPECT_EQ(found[0].cure + found[1].cure, "");
}

TEST_F(MappingTest, ARuleKnowsTheDiskByWhatLasts) {
  NamedDisk disk;
  disk.name = disk.facts.serial = "SK-1";
  KeepOffRule rule = keep_off_rule(disk, folder_.path());
  EXPECT_NE(rule.text.find("ENV{ID_SERIAL_SHORT}==\"SK-1\""), std::string::npos);
  write_rule(rule);
  EXPECT_TRUE(remove_rule(rule));
  EXPECT_FALSE(remove_rule(rule));
  // A pattern would meet other disks, a quote would end the value.
  disk.facts.serial = "SK*";
  disk.facts.wwn = "0x5000";
  EXPECT_NE(keep_off_rule(disk).text.find("ENV{ID_WWN}==\"0x5000\""), std::string::npos);
  disk.facts.wwn = "a\"b";
  EXPECT_THROW(keep_off_rule(disk), Error);
}

}  // namespace
}  // namespace lantern
