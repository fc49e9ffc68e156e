#include "lantern/survey.h"

#include <gtest/gtest.h>

#include <filesystem>
#include <sstream>

#include "kit/disk_builder.h"
#include "kit/fat_builder.h"
#include "kit/md_builder.h"

namespace lantern {
namespace {

using kit::Bytes;
using kit::FatBuilder;

Bytes volume_of(const std::vector<std::string>& names) {
  FatBuilder fat(FatBuilder::Width::fat16);
  std::uint32_t cluster = 10;
  for (const std::string& name : names) {
    fat.file(0, name, kit::pattern(100, cluster), {cluster});
    ++cluster;
  }
  return fat.bytes();
}

SurveyReport look_at(const std::vector<std::string>& paths, const Context& context) {
  std::vector<Address> addresses;
  for (const std::string& path : paths) addresses.push_back(Address::parse(path));
  return survey(addresses, Session({}, context));
}

TEST(SurveyOfSeveral, TheOneWithMostOfThePeoplesFilesIsNamed) {
  const kit::Folder folder;
  const std::string few = folder.file("few.img", volume_of({"a.jpg"}));
  const std::string many = folder.file("many.img", volume_of({"a.jpg", "b.jpg", "c.jpg"}));
  const Context context;
  const SurveyReport report = look_at({few, many}, context);
  EXPECT_EQ(report.sources.size(), 2u);
  EXPECT_EQ(report.chosen, many + "::1");
  ASSERT_EQ(report.volumes.size(), 2u);
  EXPECT_FALSE(report.volumes[0].likely_user_files);
  EXPECT_TRUE(report.volumes[1].likely_user_files);
}

TEST(SurveyOfSeveral, ASourceGivenTwiceIsReadOnce) {
  const kit::Folder folder;
  const std::string path = folder.file("a.img", volume_of({"a.jpg"}));
  const std::string link = folder / "link.img";
  std::filesystem::create_symlink(path, link);
  const Context context;
  const SurveyReport report = look_at({path, link, path}, context);
  EXPECT_EQ(report.sources.size(), 1u);
  EXPECT_EQ(report.volumes.size(), 1u);
  EXPECT_EQ(kit::codes(context), (std::vector<std::string>{"source.twice@0", "source.twice@0"}))
      << "one of each name";
}

TEST(SurveyOfSeveral, TwoFilesOfOneIdAreTold) {
  const kit::Folder folder;
  const Bytes bytes = volume_of({"a.jpg"});
  const Context context;
  const SurveyReport report =
      look_at({folder.file("a.img", bytes), folder.file("b.img", bytes)}, context);
  EXPECT_EQ(report.volumes.size(), 2u);
  EXPECT_EQ(kit::codes(context), std::vector<std::string>{"source.same-id@0"});
}

Bytes array_member(std::uint32_t device, std::uint8_t set) {
  kit::MdMember member;
  member.level = 1;
  member.members = 2;
  member.roles = {0, 1};
  member.device = device;
  member.set = set;
  member.used_sectors = member.data_sectors = 1000;
  return kit::md_member(member, Bytes(1 << 20));
}

TEST(SurveyOfSeveral, MembersOfOneArrayAreTold) {
  const kit::Folder folder;
  const std::string second = folder.file("second.img", array_member(1, 7));
  const std::string first = folder.file("first.img", array_member(0, 7));
  const std::string other = folder.file("other.img", array_member(0, 8));
  const Context context;
  const SurveyReport report = look_at({second, first, other}, context);
  ASSERT_EQ(report.sets.size(), 2u);
  const SurveySet& set = report.sets[0];
  ASSERT_EQ(set.members.size(), 2u);
  EXPECT_EQ(set.members[0].address, first + "::1") << "by slot, not as given";
  EXPECT_EQ(set.members[1].slot, 1u);
  std::ostringstream text;
  JsonWriter json(text);
  json.begin_object();
  write_json(json, report);
  json.end_object();
  EXPECT_NE(text.str().find("\"sets\""), std::string::npos);
}

TEST(Survey, OfZerosOrTextAsksForNoRepair) {
  const kit::Folder folder;
  const Context zeros, text;
  const SurveyReport of_zeros = look_at({folder.file("zeros.img", Bytes(1 << 20))}, zeros);
  ASSERT_EQ(of_zeros.volumes.size(), 1u);
  EXPECT_EQ(of_zeros.volumes[0].content, "only zeros");
  EXPECT_TRUE(of_zeros.next.empty());
  std::string words;
  while (words.size() < 5000) words += "wind north-west 5, two eggs\n";
  const SurveyReport of_text = look_at({folder.file("log.txt", kit::bytes_of(words))}, text);
  EXPECT_EQ(of_text.volumes[0].content, "text (txt)");
  EXPECT_TRUE(of_text.next.empty());
  EXPECT_FALSE(text.findings->worse_than_note());
}

// Nothing stands where a volume begins: what is behind it decides whether that is all.
TEST(Survey, OfZerosAtTheStartSaysWhatFollows) {
  const kit::Folder folder;
  Bytes disk(8 << 20);
  const Context zeros, lost;
  const SurveyReport of_zeros = look_at({folder.file("zeros.img", disk)}, zeros);
  EXPECT_EQ(of_zeros.volumes[0].content, "zeros where it was looked at");
  EXPECT_FALSE(of_zeros.volumes[0].may_hold_files);
  ASSERT_EQ(of_zeros.next.size(), 1u);
  EXPECT_EQ(of_zeros.next[0].what, Do::sweep);

  const Bytes data = kit::pattern(4 << 20, 9);
  std::copy(data.begin(), data.end(), disk.begin() + (1 << 20));
  const SurveyReport of_lost = look_at({folder.file("lost.img", disk)}, lost);
  EXPECT_EQ(of_lost.volumes[0].content, "zeros at its start, then data");
  EXPECT_TRUE(of_lost.volumes[0].may_hold_files);
  EXPECT_TRUE(of_lost.checked.empty());
  EXPECT_EQ(kit::codes(lost), std::vector<std::string>{"volume.unknown-content@0"});
  ASSERT_EQ(of_lost.next.size(), 1u);
  EXPECT_EQ(of_lost.next[0].what, Do::sweep);
}

TEST(Survey, UnknownContentIsAFindingAndRandomDataIsNamed) {
  const kit::Folder folder;
  const Context context;
  const SurveyReport report =
      look_at({folder.file("noise.img", kit::pattern(1 << 20, 9))}, context);
  EXPECT_TRUE(report.chosen.empty());
  EXPECT_TRUE(report.checked.empty());
  EXPECT_EQ(kit::codes(context), std::vector<std::string>{"volume.unknown-content@0"});
}

// A table with an entry for the first of two volumes, and what stands in the second.
Bytes disk_with(const Bytes& second, bool entry, std::uint32_t second_sectors = 0) {
  const Bytes first = volume_of({"a.jpg"});
  const auto sectors = static_cast<std::uint32_t>(first.size() / 512);
  const std::uint32_t at = (2048 + sectors + 2047) / 2048 * 2048;
  const auto length =
      second_sectors > 0 ? second_sectors : static_cast<std::uint32_t>(second.size() / 512);
  Bytes disk(std::size_t{at + length + 4096} * 512);
  std::vector<kit::MbrEntry> entries = {{0x0E, 2048, sectors}};
  if (entry) entries.push_back({0x07, at, length});
  kit::put_mbr(disk, 0, entries);
  kit::put_bytes(disk, 2048 * 512, first);
  kit::put_bytes(disk, std::size_t{at} * 512, second);
  return disk;
}

TEST(Survey, AVolumeWithoutAnEntryIsListedAndReadable) {
  const kit::Folder folder;
  const Context context;
  const std::string path =
      folder.file("disk.img", disk_with(volume_of({"b.jpg", "c.jpg", "d.jpg"}), false));
  const SurveyReport report = look_at({path}, context);
  ASSERT_EQ(report.volumes.size(), 2u);
  EXPECT_FALSE(report.volumes[1].listed);
  EXPECT_EQ(report.volumes[1].files, 3u);
  EXPECT_EQ(report.chosen, report.volumes[1].layer->address.print()) << "it has more files";
  EXPECT_EQ(kit::codes(context).size(), 1u);
  EXPECT_GE(report.fixes, 1u) << "its entry is proposed";
  ASSERT_EQ(report.spaces.size(), 1u);
  EXPECT_FALSE(report.spaces[0].has_data);
  const Target opened = Session().open(Address::parse(report.chosen));
  EXPECT_NE(opened.volume_layer().file_system(), nullptr);
}

TEST(Survey, ALargerVolumeThatCannotBeReadMayBeTheUsers) {
  const kit::Folder folder;
  const Context context;
  const Bytes noise = kit::pattern(8 << 20, 9);
  const SurveyReport report = look_at({folder.file("disk.img", disk_with(noise, true))}, context);
  EXPECT_TRUE(report.chosen.empty());
  ASSERT_EQ(report.may_be.size(), 2u);
  EXPECT_TRUE(report.checked.empty());
  EXPECT_EQ(report.not_checked.size(), 1u);
  EXPECT_NE(report.files_state.find("which cannot be read"), std::string::npos);
  EXPECT_EQ(kit::codes(context), std::vector<std::string>{"volume.unknown-content@0"});
}

TEST(Survey, WhereAllIsWellItSaysWhatWasChecked) {
  const kit::Folder folder;
  const Context context;
  const SurveyReport report =
      look_at({folder.file("disk.img", disk_with(volume_of({"b.jpg"}), true))}, context);
  EXPECT_EQ(report.checked, "the partition table (mbr), 2 file systems (fat16, fat16)");
  EXPECT_EQ(report.files_state, "All files that were found are complete: 2.");
  ASSERT_TRUE(report.volumes[1].next.has_value());
}

TEST(Survey, WithoutCountingNoEntryIsLookedAt) {
  const kit::Folder folder;
  const Context context;
  const std::string path = folder.file("disk.img", volume_of({"a.jpg"}));
  const SurveyReport report = survey({Address::parse(path)}, Session({}, context), {false, false});
  ASSERT_EQ(report.volumes.size(), 1u);
  EXPECT_EQ(report.volumes[0].files, 0u);
  EXPECT_FALSE(report.volumes[0].counted_all);
  EXPECT_TRUE(report.files_state.empty());
  EXPECT_TRUE(report.starts.empty());
}

}  // namespace
}  // namespace lantern
