#include "lantern/nest/session.h"

#include <gtest/gtest.h>

#include "kit/disk_builder.h"
#include "kit/fat_builder.h"
#include "lantern/error.h"
#include "lantern/survey.h"

namespace lantern {
namespace {

using kit::Bytes;
using kit::FatBuilder;
using Codes = std::vector<std::string>;

constexpr std::size_t kFirstAt = 2048 * 512;

// MBR; volume 1 a small boot volume, volume 2 the keeper's files.
Bytes station_disk() {
  FatBuilder boot(FatBuilder::Width::fat12);
  boot.label("BOOT       ");
  boot.folder(0, "EFI", {5});
  boot.file(0, "station.bin", kit::pattern(900, 1), {6, 7});
  boot.file(0, "readme.txt", kit::pattern(90, 1), {8});
  FatBuilder data(FatBuilder::Width::fat16);
  data.label("KEEPER     ");
  for (std::uint32_t i = 0; i < 9; ++i)
    data.file(0, "Photograph " + std::to_string(i) + ".jpg", kit::pattern(500, i), {10 + i});
  Bytes disk;
  const std::size_t second_at = kFirstAt + boot.bytes().size();
  kit::put_mbr(disk, 0,
               {{0x01, 2048, static_cast<std::uint32_t>(boot.bytes().size() / 512), true},
                {0x06, static_cast<std::uint32_t>(second_at / 512),
                 static_cast<std::uint32_t>(data.bytes().size() / 512), false}});
  kit::put_bytes(disk, kFirstAt, boot.bytes());
  kit::put_bytes(disk, second_at, data.bytes());
  return disk;
}

Address at(const std::string& text, const std::string& first) {
  return Address::parse(text, [&](const std::string& path) { return path == first; });
}

class NestOfStation : public ::testing::Test {
 protected:
  Target open(const std::string& steps) {
    return Session({}, context_).open(at(path_ + steps, path_));
  }
  ErrorCode refusal(const std::string& steps) {
    try {
      Session({}, context_).open_volume(at(path_ + steps, path_));
    } catch (const Error& error) {
      return error.code();
    }
    ADD_FAILURE() << steps << " opened";
    return ErrorCode::usage;
  }
  kit::Folder folder_;
  std::string path_ = folder_.file("station.img", station_disk());
  Context context_;
};

TEST_F(NestOfStation, VolumesAreNamedByNumberPlaceLabelAndUuid) {
  const std::string place = "::at=" + std::to_string(open("::2").volume_layer().row.range.offset);
  for (const std::string& step : {std::string("::2"), std::string("::label=KEEPER"), place}) {
    const Target target = open(step);
    ASSERT_TRUE(target.volume && target.volume_layer().file_system()) << step;
    EXPECT_EQ(target.volume_layer().file_system()->facts().label, "KEEPER") << step;
  }
  EXPECT_EQ(refusal("::uuid=1A2B-3C4D"), ErrorCode::usage) << "both volumes have it";
  EXPECT_EQ(refusal("::3"), ErrorCode::not_found);
  EXPECT_EQ(refusal("::label=absent"), ErrorCode::not_found);
  EXPECT_EQ(refusal("::at=99999999999"), ErrorCode::not_found);
  EXPECT_EQ(refusal("::lv:group/name"), ErrorCode::not_found);
}

TEST_F(NestOfStation, TheUsersFilesAreChosenByEvidence) {
  const Target target = Session({}, context_).open_volume(at(path_, path_));
  EXPECT_EQ(target.chosen, path_ + "::2");
  EXPECT_EQ(target.why,
            "9 user documents (9 pictures); volume 1 has 1 and has boot files (\"EFI\")");
}

TEST_F(NestOfStation, PathsAndIdsLeadToEntries) {
  const Target target = open("::2::/photograph 3.JPG");
  ASSERT_TRUE(target.entry);
  EXPECT_EQ(target.entry->path.back(), "Photograph 3.jpg");
  EXPECT_EQ(open("::2::@" + target.entry->id).entry->path, target.entry->path);
  EXPECT_EQ(open("::/photograph 3.jpg").entry->id, target.entry->id) << "the volume left out";
  EXPECT_EQ(refusal("::2::/absent"), ErrorCode::not_found);
  EXPECT_EQ(refusal("::2::@17"), ErrorCode::not_found);
}

TEST_F(NestOfStation, BytesIsWhatLiesThere) {
  EXPECT_EQ(open("::bytes").bytes->size(), station_disk().size());
  EXPECT_EQ(kit::read_all(*open("::2::/photograph 3.jpg::bytes").bytes), kit::pattern(500, 3));
  EXPECT_EQ(open("::1::bytes").bytes->size(), open("::1").volume_layer().row.range.length);
}

TEST(Nest, ADiskInAFileInAVolumeInADiskOpens) {
  kit::VdiOptions options;
  options.block_bytes = 65'536;
  const Bytes inner = kit::make_vdi(station_disk(), options);
  FatBuilder host(FatBuilder::Width::fat16, 9'000, 1'024);
  std::vector<std::uint32_t> clusters;
  for (std::uint32_t i = 0; i * 1'024 < inner.size(); ++i) clusters.push_back(20 + i);
  host.folder(0, "machines", {10});
  const auto slot = host.file(10, "mail.vdi", inner, clusters);
  const kit::Folder folder;
  const std::string path = folder.file("host.img", host.bytes());
  const Context context;
  const std::string address = path + "::1::/machines/mail.vdi::2::/Photograph 4.jpg";
  const Target target = Session({}, context).open(at(address, path));
  ASSERT_TRUE(target.entry);
  EXPECT_EQ(target.disks.size(), 2u);
  EXPECT_EQ(kit::read_all(*target.volume_layer().file_system()->open(*target.entry).bytes),
            kit::pattern(500, 4));
  // And out of a deleted image, by its id.
  host.remove(slot, clusters);
  const std::string damaged = folder.file("damaged.img", host.bytes());
  const Target again =
      Session({}, context)
          .open(at(damaged + "::1::@" + std::to_string(slot) + "::2::/Photograph 4.jpg", damaged));
  EXPECT_EQ(kit::read_all(*again.volume_layer().file_system()->open(*again.entry).bytes),
            kit::pattern(500, 4));
  EXPECT_EQ(again.volume_layer().address.print(),
            damaged + "::1::@" + std::to_string(slot) + "::2");
}

TEST(Nest, PiecesOfASplitImageInAFolderOfAVolumeAreJoined) {
  const Bytes whole = station_disk();
  FatBuilder host(FatBuilder::Width::fat16, 9'000, 1'024);
  const std::size_t half = whole.size() / 2 / 1'024 * 1'024;
  const std::vector<Bytes> halves = {
      Bytes(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(half)),
      Bytes(whole.begin() + static_cast<std::ptrdiff_t>(half), whole.end())};
  std::uint32_t next = 20;
  for (std::size_t i = 0; i < 2; ++i) {
    std::vector<std::uint32_t> clusters;
    for (std::size_t k = 0; k * 1'024 < halves[i].size(); ++k) clusters.push_back(next++);
    host.file(0, "disk.00" + std::to_string(i + 1), halves[i], clusters);
  }
  const kit::Folder folder;
  const std::string path = folder.file("host.img", host.bytes());
  const Target target =
      Session({}, Context()).open(at(path + "::1::/disk.001::2::/Photograph 4.jpg", path));
  EXPECT_EQ(kit::read_all(*target.volume_layer().file_system()->open(*target.entry).bytes),
            kit::pattern(500, 4));
}

TEST(Nest, SeveralDeletedHoldersOfAPathAreAskedAbout) {
  FatBuilder volume(FatBuilder::Width::fat16);
  volume.remove(volume.file(0, "log.txt", kit::pattern(10, 1), {10}), {10});
  volume.remove(volume.file(0, "log.txt", kit::pattern(10, 2), {11}), {11});
  const kit::Folder folder;
  const std::string path = folder.file("card.img", volume.bytes());
  try {
    Session({}, Context()).open(at(path + "::1::/log.txt", path));
    ADD_FAILURE();
  } catch (const Error& error) {
    EXPECT_EQ(error.code(), ErrorCode::usage);
    EXPECT_NE(std::string(error.what()).find("::@"), std::string::npos);
  }
}

TEST(Nest, AnEmptyFileIsSaidToBeEmpty) {
  const kit::Folder folder;
  const std::string path = folder.file("empty.img", {});
  try {
    Session({}, Context()).open_first(at(path, path));
    ADD_FAILURE();
  } catch (const Error& error) {
    EXPECT_EQ(error.code(), ErrorCode::cannot_open);
  }
}

TEST(Survey, TellsLayersVolumesAndTheNextCommand) {
  const kit::Folder folder;
  const std::string path = folder.file("station.img", station_disk());
  const Context context;
  const SurveyReport report = survey({at(path, path)}, Session({}, context));
  Codes layers;
  for (const SurveyLayer& layer : report.layers) layers.push_back(layer.kind + " " + layer.format);
  EXPECT_EQ(layers, (Codes{"source file", "disk raw", "table mbr", "volume FAT12",
                           "file system fat12", "volume FAT16", "file system fat16"}));
  ASSERT_EQ(report.volumes.size(), 2u);
  EXPECT_FALSE(report.volumes[0].likely_user_files);
  EXPECT_TRUE(report.volumes[1].likely_user_files);
  EXPECT_EQ(report.volumes[1].files, 9u);
  EXPECT_EQ(report.chosen, path + "::2");
  EXPECT_EQ(report.next.at(0).what, Do::list);
  EXPECT_EQ(report.next.at(0).arguments, std::vector<std::string>{path + "::2"});
}

class StandInHost final : public Host {
 public:
  std::optional<HostFile> file(const std::string&) const override { return std::nullopt; }
  std::vector<std::uint64_t> stack_below(std::uint64_t) const override { return {}; }
  std::optional<std::string> loop_file(std::uint64_t) const override { return std::nullopt; }
  std::optional<std::string> lock_on(const std::string&) const override { return {}; }
  std::vector<Holder> holders(const std::string&) const override {
    return {{77, "hypervisor", true}, {78, "reader", false}};
  }
};

TEST(Nest, SaysWhoHoldsTheSourceOpenForWriting) {
  const kit::Folder folder;
  const std::string path = folder.file("station.img", station_disk());
  const Context context;
  OpenOptions options;
  options.host = std::make_shared<StandInHost>();
  Session(options, context).open_first(at(path, path));
  ASSERT_EQ(kit::codes(context), Codes{"source.held@0"});
  EXPECT_EQ(context.findings->all()[0].message, "held open for writing by hypervisor (process 77)");
}

}  // namespace
}  // namespace lantern
