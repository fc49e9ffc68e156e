#include "lantern/nest/session.h"

#include <gtest/gtest.h>

#include "kit/disk_builder.h"
#include "kit/fat_builder.h"
#include "lantern/survey.h"

namespace lantern {
namespace {

using kit::FatBuilder;

kit::Bytes fat_volume(std::string_view text) {
  FatBuilder fat(FatBuilder::Width::fat16);
  fat.file(0, "log.txt", kit::bytes_of(text), {2});
  return fat.bytes();
}

// Two volumes; the second has a chain of clusters that leads nowhere.
class SessionTest : public testing::Test {
 protected:
  SessionTest() {
    const kit::Bytes first = fat_volume("two eggs");
    FatBuilder damaged(FatBuilder::Width::fat16);
    damaged.file(0, "lamp.txt", kit::pattern(4000, 1), {2, 3});
    damaged.link(2, 0xFFF0);
    const kit::Bytes second = damaged.bytes();
    const auto sectors = [](const kit::Bytes& bytes) {
      return static_cast<std::uint32_t>(bytes.size() / 512);
    };
    const std::uint32_t behind = 2048 + (sectors(first) + 2047) / 2048 * 2048;
    kit::Bytes disk((behind + sectors(second) + 2048) * std::size_t{512});
    kit::put_mbr(disk, 0,
                 {{0x06, 2048, sectors(first), false}, {0x06, behind, sectors(second), false}});
    kit::put_bytes(disk, 2048 * 512, first);
    kit::put_bytes(disk, behind * std::size_t{512}, second);
    path_ = folder_.file("disk.img", disk);
  }
  Address at(const std::string& steps = {}) const { return Address::parse(path_ + steps); }

  kit::Folder folder_;
  std::string path_;
  Context context_;
};

// What a near miss of an address is answered with.
std::string answer_to(const std::string& address) {
  try {
    Session().open(Address::parse(address));
  } catch (const Error& error) {
    return error.next_step().text();
  }
  return "it opened";
}

TEST_F(SessionTest, ANearMissOfAnAddressIsMetWithTheOneThatWasMeant) {
  const std::string volume = path_ + "::1";
  const Target target = Session().open(Address::parse(volume));
  std::vector<std::string> name;
  target.file_system().walk({}, [&](const Entry& entry) {
    name = entry.path;
    return WalkStep::stop;
  });
  ASSERT_EQ(name.size(), 1u);
  std::string slip = name[0];
  std::swap(slip[0], slip[1]);
  EXPECT_EQ(answer_to(volume + "::/" + slip), "did you mean " + volume + "::/" + name[0] + "?");
  EXPECT_EQ(answer_to(volume + "/" + name[0]), "did you mean " + volume + "::/" + name[0] + "?");
  EXPECT_EQ(answer_to(path_ + ":1"), "did you mean " + volume + "?");
  EXPECT_EQ(answer_to(path_.substr(0, path_.size() - 1)), "did you mean " + path_ + "?");
  EXPECT_EQ(answer_to(path_ + "-nothing-like-it"), "check the name");
}

TEST_F(SessionTest, ALockFileBesideAnImageIsSaidWhenItIsRead) {
  folder_.file("disk.img.lock", kit::bytes_of("bench-2\n"));
  OpenOptions options;
  options.host = this_host();
  const Session session(options, context_);
  session.open(at());
  const std::vector<Finding> all = context_.findings->all();
  ASSERT_EQ(all.size(), 1u);
  EXPECT_EQ(all[0].code, FindingCode::source_held);
  EXPECT_NE(all[0].message.find("by \"bench-2\""), std::string::npos) << all[0].message;
}

TEST_F(SessionTest, AnAddressOpenedTwiceIsTheSameLayer) {
  const Session session({}, context_);
  const Target one = session.open(at("::1"));
  const Target two = session.open(at("::1::/log.txt"));
  EXPECT_EQ(one.disks.front(), two.disks.front());
  EXPECT_EQ(one.volume, two.volume);
  const Target place = session.open(at("::at=4096"));
  EXPECT_EQ(place.volume, session.open(at("::at=4096")).volume);
  EXPECT_NE(session.with(context_).open(at("::1")).volume, one.volume) << "another session's";
}

TEST_F(SessionTest, ALayerNobodyHoldsOpensAgainTheSame) {
  const Session session({}, context_);
  const std::string id = session.open(at("::1::/log.txt")).entry->id;
  const Target again = session.open(at("::1::/log.txt"));
  EXPECT_EQ(again.entry->id, id);
  EXPECT_EQ(again.volume->address.print(), path_ + "::1");
}

TEST_F(SessionTest, AVolumeIsOpenedWhenItIsAsked) {
  const Session session({}, context_);
  const Target target = session.open(at("::1::/log.txt"));
  const VolumeList& volumes = target.disk().volumes;
  ASSERT_EQ(volumes.size(), 2u);
  EXPECT_TRUE(volumes[0].is_opened());
  EXPECT_FALSE(volumes[1].is_opened());
  EXPECT_EQ(volumes[1].format(), "fat16");
  EXPECT_TRUE(volumes[1].is_opened());
}

TEST_F(SessionTest, FindingsAreOfTheLayersLookedAt) {
  const Session session({}, context_);
  const Target first = session.open(at("::1"));
  walk_target(first, {}, [](const Entry&) { return WalkStep::go_on; });
  EXPECT_TRUE(context_.findings->all().empty());
  const Target second = session.open(at("::2::/lamp.txt"));
  second.file_system().open(*second.entry);
  const auto found = findings_of(second);
  ASSERT_FALSE(found.empty());
  EXPECT_EQ(found.front().address, path_ + "::2");
  EXPECT_EQ(context_.findings->all().size(), found.size());
  EXPECT_TRUE(findings_of(first).empty()) << "whatever else was opened";
}

TEST_F(SessionTest, LayersLeadDownToTheFile) {
  const Session session({}, context_);
  const Target target = session.open(at("::1::/log.txt"));
  std::vector<std::string> formats;
  walk_layers(target.volume, [&](const Layer& layer) {
    formats.push_back(layer.format());
    return true;
  });
  EXPECT_EQ(formats, (std::vector<std::string>{"fat16", "raw", "file"}));
  EXPECT_EQ(bottom_sources(target), std::vector<std::string>{path_});
}

}  // namespace
}  // namespace lantern
