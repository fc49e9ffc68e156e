#include "lantern/nest/array_statement.h"

#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "kit/md_builder.h"
#include "lantern/error.h"
#include "lantern/nest/session.h"

namespace lantern {
namespace {

using kit::Bytes;

std::string refusal(const std::function<void()>& what) {
  try {
    what();
  } catch (const Error& error) {
    return error.line();
  }
  return "none";
}

TEST(ArrayStatement, IsPrintedAsItIsRead) {
  const std::string step =
      "6,chunk=64K,layout=ddf-N-restart,order=a b.img/-/c.img,start=1M,size=3G,volume=2";
  const ArrayStatement stated = parse_array_step(step);
  EXPECT_EQ(stated.level, 6);
  EXPECT_EQ(stated.chunk_bytes, 65536u);
  EXPECT_EQ(stated.members, (std::vector<std::string>{"a b.img", "-", "c.img"}));
  EXPECT_EQ(print_array_step(stated), step);
  const auto read = parse_array_file(print_array_file(stated), "x");
  ASSERT_TRUE(read);
  EXPECT_EQ(*read, stated);
  EXPECT_EQ(in_words(stated), "RAID 6, ddf-N-restart, chunks of 64.0 KiB, 3 members");
}

TEST(ArrayStatement, SaysWhatIsWrong) {
  EXPECT_EQ(refusal([] { parse_array_step("7"); }),
            "\"7\" is not a level: linear, 0, 1, 4, 5, 6 or 10");
  EXPECT_EQ(refusal([] { parse_array_step("5,layout=f2"); }), "level RAID 5 has no layout \"f2\"");
  EXPECT_EQ(refusal([] { parse_array_step("5,chunk=64Q"); }), "\"64Q\" is not a size");
  EXPECT_EQ(refusal([] { parse_array_step("5,colour=red"); }),
            "\"colour=red\" is no figure of an array");
  EXPECT_FALSE(parse_array_file("anything else", "x"));
  EXPECT_EQ(refusal([] { parse_array_file("nest-lantern array 1\nlevel 5\n", "x"); }),
            "x: names no members");
  EXPECT_EQ(
      refusal([] { parse_array_file("nest-lantern array 1\nlevel 5\nmember a\nstart x\n", "x"); }),
      "x: line 4: \"x\" is not a size");
}

class StatedArray : public ::testing::Test {
 protected:
  StatedArray() {
    const std::vector<Bytes> data = kit::md_data(content_);
    for (std::size_t i = 0; i < data.size(); ++i) {
      Bytes member(8192);
      member.insert(member.end(), data[i].begin(), data[i].end());
      folder_.file("bay " + std::to_string(3 - i) + ".img", member);
    }
  }
  Bytes read(const std::string& address) const {
    return kit::read_all(*Session().open(Address::parse(address)).volume->bytes);
  }

  const Bytes content_ = kit::pattern(24 * 4096, 9);
  const kit::Folder folder_;
};

TEST_F(StatedArray, OfAFolderOpensWithAHoleToo) {
  const std::string place = folder_.path() + "::array=5,chunk=4K,start=8K,order=";
  EXPECT_TRUE(read(place + "bay 3.img/bay 2.img/bay 1.img") == content_);
  EXPECT_TRUE(read(place + "bay 3.img/-/bay 1.img") == content_);
  EXPECT_FALSE(read(place + "bay 1.img/bay 2.img/bay 3.img") == content_);
  EXPECT_NE(refusal([&] { read(place + "bay 3.img/bay 9.img"); }).find("no member \"bay 9.img\""),
            std::string::npos);
}

TEST_F(StatedArray, InAFileIsADisk) {
  const std::string path = folder_.file(
      "pulled.array", kit::bytes_of("nest-lantern array 1\nlevel 5\nchunk 4K\nstart 8K\n"
                                    "member bay 3.img\nmember -\nmember bay 1.img\n"));
  const Target target = Session().open_disk(Address::parse(path));
  EXPECT_TRUE(kit::read_all(*target.disk().bytes) == content_);
  EXPECT_EQ(bottom_sources(target),
            (std::vector<std::string>{folder_ / "bay 3.img", folder_ / "bay 1.img"}));
}

TEST_F(StatedArray, ThatLeadsBackToItselfSaysSo) {
  const std::string head = "nest-lantern array 1\nlevel 0\nmember ";
  const std::string first = folder_.file("first.array", kit::bytes_of(head + "./second.array\n"));
  folder_.file("second.array",
               kit::bytes_of(head + "../" + folder_.path().substr(folder_.path().rfind('/') + 1) +
                             "/first.array\n"));
  EXPECT_NE(refusal([&] { Session().open_disk(Address::parse(first)); }).find("leads back"),
            std::string::npos);
}

}  // namespace
}  // namespace lantern
