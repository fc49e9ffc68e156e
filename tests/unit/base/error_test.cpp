#include "lantern/error.h"

#include <gtest/gtest.h>

#include <string>

namespace lantern {
namespace {

TEST(Advice, SpeaksWithoutTheWordsOfAnInterface) {
  const Advice advice{Do::survey, " shows what is there; or ", Action{Do::undo, {"disk.undo"}}};
  EXPECT_EQ(advice.text(), "survey shows what is there; or undo disk.undo");
  ASSERT_EQ(advice.parts().size(), 3u);
  EXPECT_EQ(std::get<Action>(advice.parts()[2]).arguments, std::vector<std::string>{"disk.undo"});
  EXPECT_TRUE(Advice().empty());
  EXPECT_TRUE(Advice("").empty());
  EXPECT_EQ(Advice("name a disk"), Advice{"name a disk"});
}

TEST(Error, IsOneLineWithWhereAndWhatNext) {
  const Error error(ErrorCode::not_found, "lamp.img", 512, "nothing is there",
                    {Do::survey, " shows what is"});
  EXPECT_STREQ(error.what(), "lamp.img: nothing is there (at byte 512); survey shows what is");
  EXPECT_EQ(error.line(), "lamp.img: nothing is there (at byte 512)");
  EXPECT_STREQ(Error(ErrorCode::usage, {}, std::nullopt, "no source is named").what(),
               "no source is named");
}

}  // namespace
}  // namespace lantern
