#include "container/tar.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include "kit/bytes.h"

namespace lantern {
namespace {

constexpr std::size_t kRecord = 512;
using Codes = std::vector<std::string>;

void add_member(kit::Bytes& tar, const std::string& name, const kit::Bytes& content,
                char type = '0') {
  kit::Bytes record(kRecord);
  kit::put_text(record, 0, name);
  kit::put_text(record, 124, fmt::format("{:011o}", content.size()));
  kit::put_text(record, 148, "        ");
  record[156] = static_cast<std::byte>(type);
  kit::put_text(record, 257, "ustar");
  unsigned sum = 0;
  for (const std::byte byte : record) sum += std::to_integer<unsigned>(byte);
  kit::put_text(record, 148, fmt::format("{:06o}", sum));
  record[154] = std::byte{0};
  tar.insert(tar.end(), record.begin(), record.end());
  tar.insert(tar.end(), content.begin(), content.end());
  tar.resize((tar.size() + kRecord - 1) / kRecord * kRecord);
}

std::shared_ptr<const Neighbours> open(const kit::Bytes& tar, const Context& context) {
  return open_tar(
      make_memory_source(tar), [](const std::string& path) { return "export.ova::" + path; },
      context);
}

TEST(Tar, MembersAreReadInPlace) {
  kit::Bytes tar;
  add_member(tar, "station.ovf", kit::bytes_of("<Envelope/>"));
  add_member(tar, "./disks/", {}, '5');
  add_member(tar, "disks/tide.vmdk", kit::pattern(1300, 4));
  tar.resize(tar.size() + 2 * kRecord);
  const Context context;
  const auto folder = open(tar, context);
  ASSERT_TRUE(folder);
  EXPECT_EQ(folder->names(), (std::vector<std::string>{"station.ovf"}));
  EXPECT_EQ(folder->folders(), (std::vector<std::string>{"disks"}));
  EXPECT_EQ(kit::read_all(**folder->open("disks/tide.vmdk")), kit::pattern(1300, 4));
  EXPECT_FALSE(folder->open("tide.vmdk"));
  const auto disks = folder->folder_of("disks/tide.vmdk");
  EXPECT_EQ(disks->names(), (std::vector<std::string>{"tide.vmdk"}));
  EXPECT_EQ(disks->place("tide.vmdk"), "export.ova::disks/tide.vmdk");
  EXPECT_EQ(kit::codes(context), Codes{});
}

TEST(Tar, LongNamesOfBothKinds) {
  const std::string name = std::string(150, 'k') + "/nest counts.vmdk";
  const std::string line = " path=" + name + "\n";
  kit::Bytes tar;
  add_member(tar, "pax", kit::bytes_of(fmt::format("{}{}", line.size() + 3, line)), 'x');
  add_member(tar, "short", kit::bytes_of("one"));
  add_member(tar, "././@LongLink", kit::bytes_of(name + "2"), 'L');
  add_member(tar, "short", kit::bytes_of("two"));
  const auto folder = open(tar, Context());
  ASSERT_TRUE(folder);
  EXPECT_EQ(kit::text_of(kit::read_all(**folder->open(name))), "one");
  EXPECT_EQ(kit::text_of(kit::read_all(**folder->open(name + "2"))), "two");
}

TEST(Tar, ACutOneGivesWhatIsThere) {
  kit::Bytes tar;
  add_member(tar, "a", kit::pattern(700, 1));
  add_member(tar, "b", kit::pattern(5000, 2));
  tar.resize(tar.size() - 3 * kRecord);
  const Context context;
  const auto folder = open(tar, context);
  ASSERT_TRUE(folder);
  EXPECT_EQ(kit::read_all(**folder->open("a")), kit::pattern(700, 1));
  std::vector<Range> lost;
  const kit::Bytes given = kit::read_all(**folder->open("b"), &lost);
  EXPECT_FALSE(lost.empty());
  EXPECT_EQ(kit::codes(context).size(), 1U);
}

TEST(Tar, AHurtMemberEndsItAndIsTold) {
  kit::Bytes tar;
  add_member(tar, "a", kit::pattern(700, 1));
  const std::size_t second = tar.size();
  add_member(tar, "b", kit::pattern(700, 2));
  tar[second + 3] ^= std::byte{1};
  const Context context;
  const auto folder = open(tar, context);
  ASSERT_TRUE(folder);
  EXPECT_TRUE(folder->open("a"));
  EXPECT_FALSE(folder->open("b"));
  EXPECT_EQ(kit::codes(context), Codes{fmt::format("container.header@{}", second)});
}

TEST(Tar, WhatIsNoneIsNone) {
  EXPECT_FALSE(open(kit::pattern(4096, 3), Context()));
  EXPECT_FALSE(open(kit::Bytes(4096), Context()));
  EXPECT_FALSE(open({}, Context()));
}

}  // namespace
}  // namespace lantern
