#include "container/chain.h"

#include <gtest/gtest.h>

#include "kit/disk_builder.h"
#include "lantern/error.h"

namespace lantern {
namespace {

Surroundings beside(const kit::Folder& folder, const Context& context) {
  Surroundings around;
  around.beside = host_neighbours(folder.path(), context);
  return around;
}

TEST(FindFile, TakesNamesAsAnySystemWritesThem) {
  const kit::Folder folder;
  const Context context;
  folder.file("tide.vdi", kit::bytes_of("here"));
  const Surroundings around = beside(folder, context);
  for (const char* written : {"tide.vdi", "./tide.vdi", ".\\tide.vdi", "C:\\gone\\tide.vdi",
                              "/var/lib/machines/tide.vdi", "../../tide.vdi"})
    EXPECT_TRUE(find_file(written, around)) << written;
  for (const char* written : {"", "/", "..", "tide", "tide.vdi/below", "gone.vdi"})
    EXPECT_FALSE(find_file(written, around)) << written;
}

TEST(FindFile, NeverFollowsAPathOutOfTheFolder) {
  const kit::Folder outside;
  outside.file("secret", kit::bytes_of("secret"));
  const kit::Folder folder;
  const Context context;
  const Surroundings around = beside(folder, context);
  EXPECT_FALSE(find_file(outside / "secret", around));
  EXPECT_FALSE(
      find_file("../" + outside.path().substr(outside.path().rfind('/') + 1) + "/secret", around));
  Surroundings named = around;
  named.look_in.push_back(host_neighbours(outside.path(), context));
  const auto found = find_file(outside / "secret", named);
  ASSERT_TRUE(found) << "the user named the folder";
  EXPECT_EQ(found->place, outside / "secret");
}

TEST(OpenParent, AMissingOneIsAFindingAndItsPartIsLost) {
  const kit::Folder folder;
  const Context context;
  const Parent parent = open_parent({{"gone.vdi"}, {}, false}, beside(folder, context), context);
  EXPECT_TRUE(parent.missing);
  EXPECT_EQ(parent.flat, nullptr);
  ASSERT_EQ(parent.chain.size(), 1u);
  EXPECT_TRUE(parent.chain[0].missing);
  EXPECT_EQ(kit::codes(context), std::vector<std::string>{"chain.parent-missing@0"});
}

TEST(OpenParent, OneOfAnotherIdentityGivesWayToTheRightOne) {
  const kit::Folder folder;
  const Context context;
  // make_vdi gives no id of its own: this one does.
  kit::Bytes right = kit::make_vdi(kit::pattern(64 << 10, 1), {});
  std::fill(right.begin() + 0x188, right.begin() + 0x198, std::byte{0x11});
  folder.file("named.vdi", kit::make_vdi(kit::pattern(64 << 10, 2), {}));
  folder.file("another name.vdi", right);
  const Parent parent = open_parent({{"named.vdi"}, "11111111-1111-1111-1111-111111111111", false},
                                    beside(folder, context), context);
  ASSERT_FALSE(parent.missing);
  EXPECT_EQ(parent.chain[0].place, folder / "another name.vdi");
  EXPECT_EQ(kit::codes(context), std::vector<std::string>{"chain.parent-taken@0"});
}

TEST(OpenParent, AChainThatComesBackIsRefused) {
  const kit::Folder folder;
  const Context context;
  folder.file("a.vdi", kit::make_vdi(kit::pattern(64 << 10, 1), {}));
  Surroundings around = beside(folder, context);
  around.opening = {folder / "a.vdi"};
  try {
    open_parent({{"a.vdi"}, {}, false}, around, context);
    ADD_FAILURE() << "opened";
  } catch (const Error& error) {
    EXPECT_EQ(error.code(), ErrorCode::refused);
  }
}

}  // namespace
}  // namespace lantern
