#include "lantern/structure.h"

#include <gtest/gtest.h>

#include "kit/disk_builder.h"
#include "kit/ntfs_builder.h"
#include "lantern/error.h"

namespace lantern::repair {
namespace {

using kit::Bytes;

constexpr std::size_t kStart = 2048 * 512;  // of the volume, bytes

// An MBR disk with boot code and one NTFS volume, which has boot code, too.
Bytes disk() {
  kit::NtfsBuilder volume;
  volume.small(30, kit::NtfsBuilder::kRoot, "log.txt", kit::bytes_of("two eggs"));
  volume.small(31, kit::NtfsBuilder::kRoot, "bootmgr", kit::bytes_of("a loader"));
  Bytes ntfs = volume.bytes();
  for (const std::size_t at : {std::size_t{0}, ntfs.size() - 512}) {
    kit::put(ntfs, at, 0x9052EB, 3);
    kit::put(ntfs, at + 28, 2048, 4);
    kit::put_bytes(ntfs, at + 84, kit::pattern(300, 8));
  }
  Bytes bytes(kStart + ntfs.size() + 4096 * 512);
  kit::put_bytes(bytes, 0, kit::pattern(400, 9));
  kit::put(bytes, 440, 0x11223344, 4);
  kit::put_mbr(bytes, 0, {{0x07, 2048, static_cast<std::uint32_t>(ntfs.size() / 512), true}});
  kit::put_bytes(bytes, kStart, ntfs);
  return bytes;
}

class Structures : public ::testing::Test {
 protected:
  Target open(const Bytes& bytes) {
    Address address;
    address.first = "disk.img";
    Target target;
    target.disks.push_back(
        Session({}, context_).open_bytes(make_memory_source(bytes), address, {}));
    return target;
  }
  Structure read(const Bytes& bytes, const std::string& name) {
    return read_structure(open(bytes), name, context_);
  }
  static std::vector<std::string> wrong(const Structure& structure) {
    std::vector<std::string> names;
    for (const Field& field : structure.fields)
      if (!field.expected.empty()) names.push_back(field.name);
    return names;
  }

  Context context_;
};

using Names = std::vector<std::string>;

TEST_F(Structures, AHealthyDiskHasNothingWrong) {
  for (const char* name : {"mbr", "boot:1", "mft:0", "mft:5"})
    EXPECT_EQ(wrong(read(disk(), name)), Names()) << name;
  const Structure record = read(disk(), "mbr");
  EXPECT_EQ(record.find("entry1.active")->value, "yes");
  EXPECT_EQ(record.find("entry1.start")->value, "2048");
  EXPECT_EQ(read(disk(), "boot:1").find("oem_name")->value, "\"NTFS\"");
}

TEST_F(Structures, EachHurtFieldIsNamedWithWhatShouldStandThere) {
  const auto damaged = [&](std::size_t at, std::uint64_t value, std::size_t width,
                           const char* name) {
    Bytes bytes = disk();
    kit::put(bytes, at, value, width);
    return wrong(read(bytes, name));
  };
  EXPECT_EQ(damaged(510, 0, 2, "mbr"), Names{"signature"});
  EXPECT_EQ(damaged(446, 0, 1, "mbr"), Names{"entry1.active"});
  EXPECT_EQ(damaged(446, 0x41, 1, "mbr"), Names{"entry1.active"});
  EXPECT_EQ(damaged(450, 0x83, 1, "mbr"), Names{"entry1.type"});
  EXPECT_EQ(damaged(458, 99'999'999, 4, "mbr"), Names{"entry1.sectors"});
  EXPECT_EQ(damaged(kStart + 510, 0, 2, "boot:1"), Names{"signature"});
  EXPECT_EQ(damaged(kStart + 28, 63, 4, "boot:1"), Names{"hidden_sectors"});
  EXPECT_EQ(damaged(kStart + 48, 9, 8, "boot:1"), Names{"mft_cluster"});
  EXPECT_EQ(damaged(kStart + 100, 7, 1, "boot:1"), Names{"boot_code"});
  Bytes bytes = disk();
  std::fill_n(bytes.begin(), 440, std::byte{0});
  EXPECT_EQ(wrong(read(bytes, "mbr")), Names{"boot_code"});
}

TEST_F(Structures, ABootSectorThatIsGoneIsToldFieldByFieldByItsCopy) {
  Bytes bytes = disk();
  std::fill_n(bytes.begin() + kStart, 512, std::byte{0});
  const Structure boot = read(bytes, "boot:1");
  EXPECT_EQ(boot.find("mft_cluster")->expected, "8: its copy has that");
  EXPECT_NE(boot.find("boot_code")->expected.find("its copy has that"), std::string::npos);
}

TEST_F(Structures, WhatIsNotThereIsSaid) {
  EXPECT_THROW(read(disk(), "boot:7"), Error);
  EXPECT_THROW(read(disk(), "mft:99999999"), Error);
  EXPECT_THROW(read(disk(), "superblock:x"), Error);
  EXPECT_THROW(read(disk(), "99999999999999999999"), Error);
  EXPECT_THROW(read(disk(), "9999999999999"), Error);
  EXPECT_EQ(read(disk(), "0").name, "mbr");
  EXPECT_EQ(read(disk(), "2048").name, "boot:1");
  EXPECT_TRUE(read(disk(), "7").fields.empty());
}

TEST_F(Structures, ThePlantedByteIsTheFirstRowAndWhoADiskIsStandsApart) {
  Bytes healthy = disk();
  kit::put(healthy, 440, 0x55667788, 4);
  kit::put(healthy, kStart + 72, 0x99, 1);
  kit::put(healthy, healthy.size() - 4096 * 512 - 512 + 72, 0x99, 1);
  struct Case {
    std::size_t at;
    const char* structure;
    const char* field;
  };
  for (const Case& planted :
       {Case{511, "mbr", "signature"}, Case{446, "mbr", "entry1.active"},
        Case{450, "mbr", "entry1.type"}, Case{454, "mbr", "entry1.start"},
        Case{kStart + 1, "boot:1", "jump"}, Case{kStart + 13, "boot:1", "cluster_sectors"},
        Case{kStart + 200, "boot:1", "boot_code"}}) {
    Bytes broken = disk();
    broken[planted.at] ^= std::byte{0x5A};
    const Comparison result = compare_structures(open(broken), open(healthy), context_);
    ASSERT_FALSE(result.rows.empty()) << planted.field;
    EXPECT_EQ(result.rows[0].structure, planted.structure);
    EXPECT_EQ(result.rows[0].field, planted.field);
    EXPECT_EQ(result.rows[0].place.offset, planted.at % 512);
    if (result.rows[0].structure == "boot:1") {
      EXPECT_EQ(result.identity.size(), 2u) << planted.field;
      EXPECT_EQ(result.rows.size(), 1u);
    }
  }
  EXPECT_TRUE(compare_structures(open(disk()), open(healthy), context_).rows.empty());
}

TEST_F(Structures, BytesAreComparedAsTheyLie) {
  Bytes other = disk();
  other[3000] ^= std::byte{1};
  other[3001] ^= std::byte{1};
  other[9000] ^= std::byte{1};
  const Comparison result = compare_bytes(open(disk()), open(other), {0, 1u << 20}, context_);
  ASSERT_EQ(result.rows.size(), 2u);
  EXPECT_EQ(result.rows[0].place, (Range{3000, 2}));
  EXPECT_EQ(result.rows[1].place, (Range{9000, 1}));
}

}  // namespace
}  // namespace lantern::repair
