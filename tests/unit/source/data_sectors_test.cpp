#include "source/data_sectors.h"

#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "kit/fat_builder.h"
#include "lantern/error.h"
#include "lantern/nest/session.h"
#include "source/failing_source.h"

namespace lantern {
namespace {

using kit::Bytes;

// As a controller stores it: 8 bytes behind each sector.
Bytes stored(const Bytes& data) {
  Bytes bytes;
  for (std::size_t at = 0; at < data.size(); at += 512) {
    bytes.insert(bytes.end(), data.begin() + static_cast<std::ptrdiff_t>(at),
                 data.begin() + static_cast<std::ptrdiff_t>(at + 512));
    bytes.insert(bytes.end(), 8, std::byte{0xC5});
  }
  return bytes;
}

TEST(DataSectors, GiveTheDataAloneAtAnyPlace) {
  const Bytes data = kit::pattern(512 * 5000, 1);
  const SourcePtr source = make_data_sectors(make_memory_source(stored(data)), 520);
  EXPECT_EQ(kit::read_all(*source), data);
  for (const Range range : {Range{511, 2}, Range{1000, 1}, Range{700, 512 * 4000}}) {
    Bytes part(range.length);
    source->read(range.offset, part);
    EXPECT_TRUE(std::equal(part.begin(), part.end(),
                           data.begin() + static_cast<std::ptrdiff_t>(range.offset)));
  }
}

TEST(DataSectors, WhatIsLostBelowIsLostWithItsSector) {
  FaultPlan plan;
  plan.unreadable = {{520 * 7 + 100, 10}};
  const auto inner = std::make_shared<FailingSource>(
      make_memory_source(stored(kit::pattern(512 * 20, 1))), plan, [](auto) {});
  std::vector<Range> lost;
  kit::read_all(*make_data_sectors(inner, 520), &lost);
  EXPECT_EQ(lost, (std::vector<Range>{{512 * 7, 512}}));
}

TEST(DataSectors, OnlySizesThatDisksHave) {
  for (const std::uint64_t size : {520u, 528u, 4104u, 4160u, 4224u})
    EXPECT_TRUE(has_data_sectors(size));
  for (const std::uint64_t size : {0u, 512u, 1024u, 4096u, 5000u})
    EXPECT_FALSE(has_data_sectors(size));
}

TEST(DataSectors, AnAddressReadsADiskOfThem) {
  kit::FatBuilder fat(kit::FatBuilder::Width::fat16);
  fat.file(0, "log.txt", kit::bytes_of("two eggs"), {2});
  const kit::Folder folder;
  const std::string path = folder.file("san.img", stored(fat.bytes()));
  const Session session;
  const Target log = session.open(Address::parse(path + "::as=raw,sector=520::1::/log.txt"));
  ASSERT_TRUE(log.entry);
  EXPECT_EQ(kit::text_of(kit::read_all(*log.file_system().open(*log.entry).bytes)), "two eggs");
  EXPECT_THROW(session.open(Address::parse(path + "::as=raw,sector=600")), Error);
  EXPECT_THROW(session.open(Address::parse(path + "::as=raw,size=520")), Error);
}

}  // namespace
}  // namespace lantern
