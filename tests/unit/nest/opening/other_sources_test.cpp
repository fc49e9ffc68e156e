// A file system whose journal is on another device: an ext volume that was not unmounted, and the
// transaction that has yet to be written into it.
#include "nest/opening/other_sources.h"

#include <gtest/gtest.h>

#include "kit/disk_builder.h"
#include "kit/ext_builder.h"
#include "lantern/survey.h"

namespace lantern {
namespace {

using kit::Bytes;
using kit::ExtBuilder;

constexpr std::uint32_t kContent = 40;  // block of the file's content
constexpr std::size_t kBlock = ExtBuilder::kBlock;

Bytes journal_id() {
  return kit::pattern(16, 9);
}

Bytes volume() {
  ExtBuilder ext(0x40 | 0x4, 0x4);  // extents, to be recovered; has a journal
  ext.file(12, kContent, kit::bytes_of("two eggs"));
  ext.folder(2, 2, ExtBuilder::kRootBlock, {{"log.txt", 12}});
  kit::put_bytes(ext.bytes(), 1024 + 0xD0, journal_id());
  return ext.bytes();
}

void put_be32(Bytes& bytes, std::size_t at, std::uint32_t value) {
  for (std::size_t i = 0; i < 4; ++i)
    bytes[at + i] = static_cast<std::byte>(value >> (8 * (3 - i)));
}

void put_head(Bytes& bytes, std::size_t block, std::uint32_t kind, std::uint32_t sequence) {
  put_be32(bytes, block * kBlock, 0xC03B3998);
  put_be32(bytes, block * kBlock + 4, kind);
  put_be32(bytes, block * kBlock + 8, sequence);
}

// One transaction: the block of the file's content.
Bytes journal_device() {
  Bytes bytes(16 * kBlock);
  kit::put(bytes, 1024 + 4, 16, 4);
  kit::put(bytes, 1024 + 0x38, 0xEF53, 2);
  kit::put(bytes, 1024 + 0x60, 0x8, 4);
  kit::put_bytes(bytes, 1024 + 0x68, journal_id());
  put_head(bytes, 2, 4, 0);
  put_be32(bytes, 2 * kBlock + 0x0C, kBlock);
  put_be32(bytes, 2 * kBlock + 0x10, 16);
  put_be32(bytes, 2 * kBlock + 0x14, 3);
  put_be32(bytes, 2 * kBlock + 0x18, 7);
  put_be32(bytes, 2 * kBlock + 0x1C, 3);
  put_head(bytes, 3, 1, 7);
  put_be32(bytes, 3 * kBlock + 12, kContent);
  put_be32(bytes, 3 * kBlock + 16, 0x8 | 0x2);
  kit::put_bytes(bytes, 4 * kBlock, kit::bytes_of("six eggs"));
  put_head(bytes, 5, 2, 7);
  return bytes;
}

class OtherSourcesTest : public testing::Test {
 protected:
  std::string text(const std::string& address, const std::vector<std::string>& with = {}) {
    OpenOptions options;
    for (const std::string& one : with) options.with.push_back(Address::parse(one));
    const Session session(options, context_);
    const Target target = session.open(Address::parse(address + "::/log.txt"));
    const Bytes bytes = kit::read_all(*target.volume->file_system()->open(*target.entry).bytes);
    return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
  }
  bool journal_missed() const {
    for (const Finding& finding : context_.findings->all())
      if (finding.code == FindingCode::ext_journal && finding.severity == Severity::damage)
        return true;
    return false;
  }

  kit::Folder folder_;
  Context context_;
};

TEST_F(OtherSourcesTest, TheJournalOfAnotherSourceIsLaidOver) {
  const std::string disk = folder_.file("station.img", volume());
  const std::string journal = folder_.file("journal.img", journal_device());
  EXPECT_EQ(text(disk, {journal}), "six eggs");
  EXPECT_FALSE(journal_missed());
}

TEST_F(OtherSourcesTest, ThatOfTheSameDiskNeedsNoName) {
  Bytes disk(4 << 20);
  kit::put_mbr(disk, 0, {{0x83, 2048, 1024, false}, {0x83, 4096, 32, false}});
  kit::put_bytes(disk, 2048 * 512, volume());
  kit::put_bytes(disk, 4096 * 512, journal_device());
  EXPECT_EQ(text(folder_.file("disk.img", disk) + "::1"), "six eggs");
}

TEST_F(OtherSourcesTest, WithoutItTheVolumeIsReadAsItLies) {
  const std::string disk = folder_.file("station.img", volume());
  Bytes foreign = journal_device();
  foreign[1024 + 0x68] ^= std::byte{1};
  const std::string other = folder_.file("other.img", foreign);
  EXPECT_EQ(text(disk, {other, folder_.path() + "/missing.img"}), "two eggs");
  EXPECT_TRUE(journal_missed());
}

TEST_F(OtherSourcesTest, BothAreMembersOfOneSet) {
  const std::string disk = folder_.file("station.img", volume());
  const std::string journal = folder_.file("journal.img", journal_device());
  const SurveyReport report =
      survey({Address::parse(disk), Address::parse(journal)}, Session(OpenOptions(), context_));
  ASSERT_EQ(report.sets.size(), 1u);
  EXPECT_EQ(report.sets.front().members.size(), 2u);
  EXPECT_EQ(content_of(*report.volumes.at(1).layer), "journal of an ext file system");
}

}  // namespace
}  // namespace lantern
