#include "base/json_reader.h"

#include <gtest/gtest.h>

#include <sstream>

namespace lantern {
namespace {

TEST(JsonValue, IsReadAndWrittenAgainAsItWas) {
  const std::string text =
      R"({"name": "lamp", "sizes": [1, 18446744073709551615, 0.744], "on": true, "who": null, )"
      R"("inner": {}})";
  const auto value = JsonValue::parse(text);
  ASSERT_TRUE(value);
  EXPECT_EQ(value->at("name").text(), "lamp");
  EXPECT_EQ(value->at("sizes").at(std::size_t{1}).number(), ~std::uint64_t{0});
  EXPECT_EQ(value->find("absent"), nullptr);
  const auto again = JsonValue::parse(value->dump());
  ASSERT_TRUE(again);
  EXPECT_EQ(*again, *value);
  EXPECT_NE(value->dump().find("0.744"), std::string::npos);
}

TEST(JsonValue, WhatIsMissingOrOfAnotherKindIsAMismatch) {
  const auto value = JsonValue::parse(R"({"text": "a", "below": -1, "part": 0.5, "list": []})");
  ASSERT_TRUE(value);
  EXPECT_THROW(value->at("absent"), JsonMismatch);
  EXPECT_THROW(value->at("text").number(), JsonMismatch);
  EXPECT_THROW(value->at("below").number(), JsonMismatch);
  EXPECT_THROW(value->at("part").number(), JsonMismatch);
  EXPECT_THROW(value->at("list").text(), JsonMismatch);
  EXPECT_THROW(value->at("list").at(std::size_t{0}), JsonMismatch);
  EXPECT_EQ(value->at("list").find("x"), nullptr);
}

TEST(JsonValue, WhatIsNotWholeIsNone) {
  for (const char* const text : {"", "{", "{\"a\":1", "[1,]", "{\"a\":1}x", "\"\xff\"", "nul"})
    EXPECT_FALSE(JsonValue::parse(text)) << text;
  EXPECT_TRUE(JsonValue::parse(std::string(64, '[') + std::string(64, ']')));
  EXPECT_FALSE(JsonValue::parse(std::string(65, '[') + std::string(65, ']')));
  EXPECT_FALSE(JsonValue::parse(std::string(1'000'000, '[')));
}

TEST(VisitJson, ArraysComeItemByItem) {
  std::istringstream in(
      R"({"job": {"a": [1, 2]}, "files": [{"id": "1"}, {"id": "2"}], "none": []})");
  std::string seen;
  const auto names = visit_json(in, [&](const std::string& member, const JsonValue& value) {
    seen += member + " " + value.dump() + "\n";
  });
  ASSERT_TRUE(names);
  EXPECT_EQ(*names, (std::vector<std::string>{"job", "files", "none"}));
  EXPECT_EQ(seen, "job {\"a\": [1, 2]}\nfiles {\"id\": \"1\"}\nfiles {\"id\": \"2\"}\n");
}

TEST(VisitJson, WhatIsCutOrNoObjectIsTold) {
  const auto visited = [](const std::string& text) {
    std::istringstream in(text);
    return visit_json(in, [](const std::string&, const JsonValue&) {}).has_value();
  };
  EXPECT_FALSE(visited("[]"));
  EXPECT_FALSE(visited(R"({"files": [{"id": "1"})"));
  EXPECT_FALSE(visited(R"({"job": 1, "job": 2})"));
  std::string many = "{";
  for (int i = 0; i < 100; ++i) many += (i == 0 ? "\"" : ", \"") + std::to_string(i) + "\": 1";
  EXPECT_FALSE(visited(many + "}")) << "more members than a document of ours has";
  EXPECT_TRUE(visited("{}"));
}

}  // namespace
}  // namespace lantern
