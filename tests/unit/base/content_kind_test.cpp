#include "base/kinds/content_kind.h"

#include <gtest/gtest.h>

#include "kit/bytes.h"

namespace lantern {
namespace {

// A member of a zip: its header, its name, its content.
kit::Bytes member(const std::string& name, std::size_t content) {
  kit::Bytes bytes;
  kit::put_text(bytes, 0, "PK\x03\x04");
  kit::put(bytes, 26, name.size(), 2);
  kit::put_text(bytes, 30, name);
  bytes.resize(30 + name.size() + content, std::byte{0x55});
  return bytes;
}

TEST(ContentKind, OfficeDocumentsAreToldApartByTheirMembersInAnyOrder) {
  for (const auto& [folder, kind] : {std::pair{"word/document.xml", "docx"},
                                     {"xl/workbook.xml", "xlsx"},
                                     {"ppt/presentation.xml", "pptx"},
                                     {"birds/word/", "zip"}}) {
    kit::Bytes bytes = member("[Content_Types].xml", 300);
    for (const std::string& name : {std::string("_rels/.rels"), std::string(folder)}) {
      const kit::Bytes more = member(name, 200);
      bytes.insert(bytes.end(), more.begin(), more.end());
    }
    EXPECT_EQ(content_kind(bytes), kind);
  }
  EXPECT_EQ(content_kind(member("x", 0)), "zip");
}

TEST(ContentKind, AWordIsAKindAnotherNameOfItOrAFamily) {
  using Kinds = std::vector<std::string_view>;
  EXPECT_EQ(content_kinds("jpg"), (Kinds{"jpg"}));
  EXPECT_EQ(content_kinds("JPEG"), (Kinds{"jpg"}));
  EXPECT_EQ(content_kinds("docx"), (Kinds{"docx"}));
  EXPECT_EQ(content_kinds("video"), (Kinds{"mov", "mp4", "avi", "mkv"}));
  EXPECT_TRUE(content_kinds("gannet").empty());
  EXPECT_TRUE(content_kinds("").empty());
}

TEST(ContentKind, EveryWordThatIsNamedMeansSomething) {
  std::string words = content_kind_words() + ", ";
  std::size_t count = 0;
  for (; !words.empty(); words.erase(0, words.find(", ") + 2), ++count)
    EXPECT_FALSE(content_kinds(words.substr(0, words.find(", "))).empty()) << words;
  EXPECT_GT(count, 40u);
}

}  // namespace
}  // namespace lantern
