#include "lantern/text.h"

#include <gtest/gtest.h>

#include "kit/bytes.h"

namespace lantern {
namespace {

TEST(Text, InvalidUtf8IsFoundAndReplaced) {
  EXPECT_TRUE(is_valid_utf8("Sk\xC3\xA9rry"));
  EXPECT_FALSE(is_valid_utf8("a\xFFz"));
  EXPECT_EQ(to_valid_utf8("a\xFFz"), "a\xEF\xBF\xBDz");
}

TEST(Text, TerminalGetsNoControlBytes) {
  EXPECT_EQ(for_terminal("a\x1b[31mb\n"), "a\\x1B[31mb\\x0A");
  EXPECT_EQ(for_terminal("\xC2\x9B"
                         "31m"),
            "\\xC2\\x9B31m");                                                  // C1
  EXPECT_EQ(for_terminal("x\xE2\x80\xAEgpj.exe"), "x\\xE2\\x80\\xAEgpj.exe");  // right-to-left
  EXPECT_EQ(for_terminal("\xFE"), "\\xFE");
  EXPECT_EQ(for_terminal("m\xC3\xA5l"), "m\xC3\xA5l");
}

TEST(Text, FileNamesAreMadeSafe) {
  EXPECT_EQ(safe_file_name("../etc/passwd"), "..%2Fetc%2Fpasswd");
  EXPECT_EQ(safe_file_name(".."), "%2E%2E");
  EXPECT_EQ(safe_file_name("."), "%2E");
  EXPECT_EQ(safe_file_name(""), "unnamed");
  EXPECT_EQ(safe_file_name(std::string("a\0b", 3)), "a%00b");
  EXPECT_EQ(safe_file_name("line\nbreak"), "line%0Abreak");
  EXPECT_EQ(safe_file_name("\xED\xA0\x80.txt"), "%ED%A0%80.txt");
}

TEST(Text, LongNamesKeepTheirEndingAndStayDistinct) {
  const std::string a = safe_file_name(std::string(400, 'a') + "1.jpg");
  const std::string b = safe_file_name(std::string(400, 'a') + "2.jpg");
  EXPECT_EQ(a.size(), 255u);
  EXPECT_TRUE(a.ends_with(".jpg"));
  EXPECT_NE(a, b);
  // Cut at a character, not within one.
  EXPECT_TRUE(is_valid_utf8(safe_file_name(std::string(1, 'x') + [] {
    std::string s;
    for (int i = 0; i < 200; ++i) s += "\xC3\xA9";
    return s;
  }())));
}

TEST(Text, LoneSurrogatesKeepTheirBits) {
  EXPECT_EQ(utf16_to_bytes({0xD83D, 0xDE00}), "\xF0\x9F\x98\x80");
  EXPECT_EQ(utf16_to_bytes({0xD800, u'x'}), "\xED\xA0\x80x");
  EXPECT_EQ(utf16_to_bytes({0xDC00}), "\xED\xB0\x80");
}

TEST(Text, SizesReadAsPeopleSayThem) {
  EXPECT_EQ(human_size(0), "0 B");
  EXPECT_EQ(human_size(1023), "1023 B");
  EXPECT_EQ(human_size(1024), "1.0 KiB");
  EXPECT_EQ(human_size(1048575), "1.0 MiB");
  EXPECT_EQ(human_size(~0ull), "16.0 EiB");
  EXPECT_EQ(grouped(1234567), "1 234 567");
}

TEST(Text, AWordWithASlipIsNearItsName) {
  const std::vector<std::string> names = {"survey", "show", "sweep"};
  EXPECT_EQ(nearest_name("survye", names), "survey");
  EXPECT_EQ(nearest_name("shwo", names), "show");
  EXPECT_EQ(nearest_name("lamp", names), "");
  EXPECT_EQ(nearest_name("", names), "");
  EXPECT_EQ(nearest_name("sweep", {}), "");
}

TEST(Text, Base64IsThatOfTheStandard) {
  EXPECT_EQ(base64("foob"), "Zm9vYg==");
  EXPECT_EQ(base64(""), "");
}

TEST(Text, Base64IsReadAsFarAsItGoes) {
  EXPECT_EQ(from_base64("Zm9v\n\t Ym E="), kit::bytes_of("fooba"));
  EXPECT_EQ(from_base64("Zm9vY"), kit::bytes_of("foo"));
  EXPECT_EQ(from_base64("Zm9v=Zm9v"), kit::bytes_of("foo"));
  EXPECT_TRUE(from_base64("").empty());
}

}  // namespace
}  // namespace lantern
