#include "lantern/json.h"

#include <gtest/gtest.h>
#include <rapidcheck.h>

#include <nlohmann/json.hpp>
#include <sstream>

#include "lantern/text.h"

namespace lantern {
namespace {

TEST(JsonWriter, WritesNestedRowsInOneLineEach) {
  std::ostringstream out;
  JsonWriter json(out);
  json.begin_object().key("rows").begin_array();
  json.begin_object().key("a").value(1).key("b").begin_array().value(2).value("x").end_array();
  json.end_object().end_array().key("none").null().end_object();
  EXPECT_EQ(out.str(),
            "{\n  \"rows\": [\n    {\"a\": 1, \"b\": [2, \"x\"]}\n  ],\n  \"none\": null\n}\n");
}

TEST(JsonWriter, SharesBelowOneNeverPrintAsOne) {
  std::ostringstream out;
  JsonWriter(out, true).begin_array().value(1.0).value(0.999999).value(0.5).end_array();
  EXPECT_EQ(out.str(), "[1, 0.999999, 0.5]");
}

TEST(JsonWriter, StringsOfAnyBytesParseBack) {
  EXPECT_TRUE(rc::check("any bytes", [](const std::string& text) {
    std::ostringstream out;
    JsonWriter(out, true).begin_array().value(text).end_array();
    const auto parsed = nlohmann::json::parse(out.str());
    RC_ASSERT(parsed.at(0).get<std::string>() == to_valid_utf8(text));
  }));
}

}  // namespace
}  // namespace lantern
