#include "lantern/physical/surface.h"

#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "lantern/error.h"
#include "lantern/report/disk_picture.h"
#include "lantern/sources.h"
#include "source/failing_source.h"

// Fonts are found once and kept until the process ends, by a library of the system.
extern "C" const char* __lsan_default_suppressions();
extern "C" const char* __lsan_default_suppressions() {
  return "leak:libfontconfig";
}

namespace lantern {
namespace {

constexpr std::uint64_t kMiB = 1u << 20;

SurfaceReport check(const FaultPlan& plan, const Context& context = Context()) {
  const auto disk = std::make_shared<FailingSource>(
      make_memory_source(kit::pattern(8 * kMiB + 512, 1)), plan, [](auto) {});
  return check_surface(disk, {}, context);
}

TEST(Surface, AllOfAHealthyDiskIsReadOnce) {
  const SurfaceReport report = check({});
  EXPECT_EQ(report.reads, 9u);
  EXPECT_EQ(report.places.size(), 9u);
  EXPECT_TRUE(report.unreadable.empty());
  EXPECT_FALSE(report.stopped);
}

TEST(Surface, WhatFailsIsNamedAndTheRestIsReadAllTheSame) {
  FaultPlan plan;
  plan.unreadable = {{3 * kMiB + 1024, 512}};
  const SurfaceReport report = check(plan);
  ASSERT_EQ(report.unreadable.size(), 1u);
  EXPECT_EQ(report.unreadable[0], (Range{3 * kMiB + 1024, (64u << 10) - 1024}));
  EXPECT_EQ(report.places.at(3).unreadable_bytes, (64u << 10) - 1024);
  EXPECT_EQ(report.places.at(4).unreadable_bytes, 0u);
  const DiskPicture picture = picture_of_surface("disk:SK-1", report);
  EXPECT_EQ(picture.places.at(3).state, PlaceState::unreadable);
  const std::string text = as_text(picture, 64);
  EXPECT_EQ(text.substr(0, text.find('\n')).find('X'), 12u + 3);
  EXPECT_NE(text.find("X unreadable"), std::string::npos);
}

TEST(Surface, ADiskThatGoesAwayIsAStopWithWhatItCameTo) {
  FaultPlan plan;
  plan.unplugged_after_reads = 4;
  const SurfaceReport report = check(plan);
  EXPECT_TRUE(report.stopped);
  EXPECT_EQ(report.places.size(), 4u);
  EXPECT_EQ(picture_of_surface("disk:SK-1", report).places.back().state, PlaceState::untried);
}

TEST(Surface, APictureIsDrawnByTheEndingOfItsNameAndReplacesNothing) {
  const kit::Folder folder;
  const DiskPicture picture = picture_of_surface("disk:SK-1", check({}));
  draw(picture, folder / "a.png");
  EXPECT_EQ(kit::text_of(kit::read_file(folder / "a.png")).substr(1, 3), "PNG");
  draw(picture, folder / "a.svg");
  EXPECT_NE(kit::text_of(kit::read_file(folder / "a.svg")).find("<svg"), std::string::npos);
  EXPECT_THROW(draw(picture, folder / "a.svg"), Error);
  EXPECT_THROW(draw(picture, folder / "a.gif"), Error);
  EXPECT_THROW(draw(picture, folder / "none/a.svg"), Error);
}

}  // namespace
}  // namespace lantern
