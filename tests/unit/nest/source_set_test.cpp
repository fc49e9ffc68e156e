#include "lantern/nest/source_set.h"

#include <gtest/gtest.h>

#include <filesystem>

#include "kit/bytes.h"

namespace lantern {
namespace {

std::shared_ptr<DiskLayer> member(const std::string& path, const std::string& set,
                                  std::optional<std::uint32_t> slot) {
  auto disk = std::make_shared<DiskLayer>();
  disk->address.first = path;
  disk->table.scheme = "gpt";
  disk->owner.emplace();
  disk->owner->set_id = set;
  disk->owner->slot = slot;
  return disk;
}

TEST(SourceSet, TheFileCountsNotItsName) {
  const kit::Folder folder;
  const std::string path = folder.file("disk.img", kit::pattern(1024, 1));
  const std::string other = folder.file("other.img", kit::pattern(1024, 1));
  const std::string link = folder / "link.img";
  const std::string hard = folder / "hard.img";
  std::filesystem::create_symlink(path, link);
  std::filesystem::create_hard_link(path, hard);
  SourceSet set;
  EXPECT_FALSE(set.add({path, {}}));
  for (const std::string& same : {path, link, hard}) {
    const auto twice = set.add({same, {}});
    ASSERT_TRUE(twice) << same;
    EXPECT_EQ(twice->first, path);
  }
  EXPECT_FALSE(set.add({other, {}})) << "the same bytes in another file are another source";
  EXPECT_FALSE(set.add({path, {volume_step(1)}})) << "a volume of it is not all of it";
  EXPECT_TRUE(set.add({link, {volume_step(1)}}));
  EXPECT_EQ(set.addresses().size(), 3u);
  EXPECT_FALSE(set.add({folder / "absent.img", {}}));
  EXPECT_TRUE(set.add({folder / "absent.img", {}}));
}

TEST(SourceSet, MembersComeBySlotAndAlternativesStay) {
  SourceSet set;
  set.note_members(*member("b", "s", 1));
  set.note_members(*member("spare", "s", std::nullopt));
  set.note_members(*member("a", "s", 0));
  set.note_members(*member("a copy", "s", 0));
  set.note_members(*member("a copy", "s", 0));
  set.note_members(*member("else", "t", 0));
  set.note_members(*member("none", "", 0));
  std::vector<std::string> names;
  for (const SetMember& one : set.members_of("s")) names.push_back(one.address.first);
  EXPECT_EQ(names, (std::vector<std::string>{"a", "a copy", "b", "spare"}));
  EXPECT_EQ(set.set_ids(), (std::vector<std::string>{"s", "t"}));
  EXPECT_TRUE(set.members_of("u").empty());
}

}  // namespace
}  // namespace lantern
