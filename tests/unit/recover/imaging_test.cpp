#include "lantern/imaging.h"
#include "source/failing_source.h"

#include <gtest/gtest.h>

#include <fstream>

#include "base/sha256.h"
#include "kit/bytes.h"
#include "lantern/error.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

TEST(Imaging, EveryKindHasItsName) {
  for (int i = 0; i <= static_cast<int>(ImageKind::qcow2_child); ++i) {
    const auto kind = static_cast<ImageKind>(i);
    EXPECT_EQ(image_kind(to_string(kind)), kind);
  }
  EXPECT_FALSE(image_kind("floppy"));
}

TEST(Imaging, LostRangesAreZerosInTheImageTheHashAndTheRecord) {
  const kit::Folder folder;
  const Context context;
  FaultPlan plan;
  plan.unreadable.push_back({8'192, 1'024});
  const kit::Bytes plain = kit::pattern(100'000, 4);
  const auto disk = std::make_shared<FailingSource>(make_memory_source(plain), plan, [](auto) {});
  const ImageSummary done = write_image(disk, folder / "out", {}, context);
  kit::Bytes expected = plain;
  std::fill(expected.begin() + 8'192, expected.begin() + 9'216, std::byte{0});
  EXPECT_EQ(kit::read_file(folder / "out"), expected);
  EXPECT_EQ(done.unreadable, (std::vector<Range>{{8'192, 1'024}}));
  EXPECT_EQ(done.sha256, sha256_hex(kit::text_of(expected)));
  EXPECT_NE(kit::text_of(kit::read_file(folder / "out.json")).find("8192"), std::string::npos);
}

TEST(Imaging, NothingThatIsThereIsReplaced) {
  const kit::Folder folder;
  folder.file("out", kit::bytes_of("mine"));
  try {
    write_image(make_memory_source(kit::pattern(1000, 1)), folder / "out", {}, Context());
    ADD_FAILURE() << "written";
  } catch (const Error& error) {
    EXPECT_EQ(error.code(), ErrorCode::refused);
  }
  EXPECT_EQ(kit::text_of(kit::read_file(folder / "out")), "mine");
}

TEST(Imaging, ASizeTheKindCannotHoldIsRefusedBeforeAnythingIsRead) {
  const kit::Folder folder;
  const SourcePtr huge = make_joined({{ExtentKind::zero, 3ull << 40, nullptr, 0}});
  for (const ImageKind kind : {ImageKind::vhd, ImageKind::vmdk, ImageKind::vmdk_stream})
    EXPECT_THROW(write_image(huge, folder / "out", {kind, false, {}, {}}, Context()), Error);
}

TEST(Imaging, ACancelledOneSaysItStopped) {
  const kit::Folder folder;
  Context context;
  context.cancel = std::make_shared<std::atomic<bool>>(true);
  const ImageSummary done =
      write_image(make_memory_source(kit::pattern(1000, 1)), folder / "out", {}, context);
  EXPECT_TRUE(done.stopped);
  EXPECT_FALSE(std::ifstream(folder / "out"));
}

}  // namespace
}  // namespace lantern
