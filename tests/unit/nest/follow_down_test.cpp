#include <gtest/gtest.h>

#include <algorithm>

#include "kit/ntfs_builder.h"
#include "lantern/nest/session.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

// Made from two sources at once, as parity is.
class Derived final : public ByteSource {
 public:
  Derived(SourcePtr a, SourcePtr b) : a_(std::move(a)), b_(std::move(b)) {}
  std::uint64_t size() const override { return 1024; }

 protected:
  void do_read(std::uint64_t, std::span<std::byte>, std::vector<Range>&) const override {}
  bool do_extents(Range range, const ExtentVisitor& visit) const override {
    return visit(
        {ExtentKind::derived, range, {{a_, range.offset + 100}, {b_, range.offset}}, "parity"});
  }

 private:
  SourcePtr a_, b_;
};

std::string places(const Target& target, const ByteSource& content) {
  std::string text;
  follow_down(target, content, [&](const LayeredExtent& extent) {
    for (const auto& [address, offset] : extent.places)
      text += address + "@" + std::to_string(offset) + " ";
    text += "| ";
    return true;
  });
  return text;
}

// A disk in a file, a volume in it.
class FollowDown : public testing::Test {
 protected:
  FollowDown() {
    container_->address.first = "disk.img";
    container_->file = container_->bytes = make_memory_source(kit::pattern(100'000, 1));
    volume_->address.first = "disk.img";
    volume_->address.steps = {volume_step(1)};
    volume_->bytes = make_window(container_->bytes, {4096, 50'000});
    volume_->inputs = {container_};
    auto disk = std::make_shared<DiskLayer>();
    disk->bytes = container_->bytes;
    disk->inputs = {container_};
    target_.disks = {disk};
    target_.volume = volume_;
  }
  std::shared_ptr<ContainerLayer> container_ = std::make_shared<ContainerLayer>();
  std::shared_ptr<VolumeLayer> volume_ = std::make_shared<VolumeLayer>();
  Target target_;
};

TEST(FollowDownOfNtfs, AResidentFileHasItsPlaceInTheRecordInEveryLayer) {
  kit::NtfsBuilder ntfs;
  const kit::Bytes content = kit::bytes_of("two eggs on the north ledge");
  ntfs.small(40, kit::NtfsBuilder::kRoot, "log.txt", content);
  const kit::Bytes disk = ntfs.bytes();
  const kit::Folder folder;
  const std::string path = folder.file("disk.img", disk);
  const Target target = Session().open(Address::parse(path + "::1::/log.txt"));
  std::size_t parts = 0;
  const Content opened = target.file_system().open(*target.entry);
  follow_down(target, *opened.bytes, [&](const LayeredExtent& part) {
    ++parts;
    EXPECT_EQ(part.extent.how, "resident");
    EXPECT_GE(part.places.size(), 2u) << "the volume, and the file it lies in";
    for (const LayeredExtent::Place& place : part.places)
      EXPECT_TRUE(std::equal(content.begin(), content.end(),
                             disk.begin() + static_cast<std::ptrdiff_t>(place.offset_bytes)))
          << place.address;
    return true;
  });
  EXPECT_EQ(parts, 1u);
}

TEST_F(FollowDown, EachLayerHasAPlaceOfItsOwn) {
  const SourcePtr file = make_window(volume_->bytes, {1000, 2000});
  EXPECT_EQ(places(target_, *file), "disk.img::1@1000 disk.img@5096 | ");
}

TEST_F(FollowDown, WhatIsMadeFromSeveralNamesThemAll) {
  const Derived file(volume_->bytes, container_->bytes);
  EXPECT_EQ(places(target_, file), "disk.img::1@100 disk.img@0 | ");
}

TEST_F(FollowDown, WhatIsNotStoredHasNoPlace) {
  const SourcePtr file = make_joined(
      {{ExtentKind::zero, 512, nullptr, 0}, {ExtentKind::direct, 512, volume_->bytes, 0}});
  EXPECT_EQ(places(target_, *file), "| disk.img::1@0 disk.img@4096 | ");
}

TEST(WalkLayers, ComesToEachLayerOnce) {
  const auto below = std::make_shared<FileLayer>();
  const auto left = std::make_shared<ContainerLayer>();
  const auto right = std::make_shared<ContainerLayer>();
  const auto top = std::make_shared<VolumeLayer>();
  left->inputs = right->inputs = {below};
  top->inputs = {left, right};
  std::vector<const Layer*> seen;
  walk_layers(top, [&](const Layer& layer) {
    seen.push_back(&layer);
    return true;
  });
  EXPECT_EQ(seen, (std::vector<const Layer*>{top.get(), left.get(), right.get(), below.get()}));
  std::size_t count = 0;
  walk_layers(top, [&](const Layer&) { return ++count < 2; });
  EXPECT_EQ(count, 2u);
  walk_layers(nullptr, [&](const Layer&) {
    ADD_FAILURE();
    return true;
  });
}

}  // namespace
}  // namespace lantern
