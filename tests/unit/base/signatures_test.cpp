#include "base/kinds/signatures.h"

#include <gtest/gtest.h>

#include "kit/bytes.h"
#include "lantern/error.h"

namespace lantern {
namespace {

constexpr std::string_view kLogger = R"(# A logger of the seabird station.
kind tern
  family sound
  also tlog
  begins "TERN" 01 .. FF
  begins at 16 "GULLS"
  length le32 at 8 plus 12
  longest 4M
)";

std::string error_of(const std::string& text) {
  Signatures signatures;
  try {
    signatures.add(text, "station.txt");
  } catch (const Error& error) {
    EXPECT_EQ(error.code(), ErrorCode::usage);
    return error.what();
  }
  return "no error";
}

TEST(Signatures, AKindIsReadFromText) {
  Signatures signatures;
  signatures.add(kLogger, "station.txt");
  const SignatureKind* const kind = signatures.by_name("tern");
  ASSERT_NE(kind, nullptr);
  EXPECT_EQ(kind->family, "sound");
  EXPECT_EQ(kind->also, std::vector<std::string>{"tlog"});
  ASSERT_EQ(kind->begins.size(), 2u);
  EXPECT_EQ(kind->begins[1].at, 16u);
  ASSERT_TRUE(kind->length);
  EXPECT_EQ(kind->length->plus, 12u);
  EXPECT_EQ(kind->longest, 4u << 20);

  kit::Bytes bytes(64);
  EXPECT_EQ(signatures.marked(bytes), nullptr);
  kit::put_text(bytes, 0, "TERN\x01?\xFF");
  EXPECT_EQ(signatures.marked(bytes), kind);
  bytes[6] = std::byte{0};
  EXPECT_EQ(signatures.marked(bytes), nullptr);
  kit::put_text(bytes, 16, "GULLS");
  EXPECT_EQ(signatures.marked(bytes), kind);
}

TEST(Signatures, WhatIsAddedComesBeforeWhatIsBuiltIn) {
  Signatures signatures = Signatures::built_in();
  signatures.add("kind plate\n begins FF D8 FF E7\n longest 1M\n", "station.txt");
  kit::Bytes bytes(64);
  kit::put_text(bytes, 0, "\xFF\xD8\xFF\xE7");
  EXPECT_EQ(signatures.marked(bytes)->name, "plate");
  bytes[3] = std::byte{0xE0};
  EXPECT_EQ(signatures.marked(bytes)->name, "jpg");
}

TEST(Signatures, ALineThatMakesNoSenseIsNamed) {
  for (const auto& [text, line, word] :
       {std::tuple{"begins 01 02 03\n", "line 1", "kind NAME"},
        {"kind tern\n begins 01 02\n longest 1M\n", "line 2", "3 bytes"},
        {"kind tern\n begins 01 0G 03\n", "line 2", "\"0G\""},
        {"kind tern\n begins \"TERN\n", "line 2", "no end"},
        {"kind tern\n begins .. 01 02 03\n", "line 2", "first byte"},
        {"kind tern\n begins at 5000 01 02 03\n", "line 2", "5000"},
        {"kind tern\n begins \"TERN\"\n", "line 2", "longest"},
        {"kind tern\n begins \"TERN\"\n length le24 at 4\n", "line 3", "le16"},
        {"kind tern\n begins \"TERN\"\n longest 9000000T\n", "line 3", "no number"},
        {"kind tern\n colour blue\n", "line 2", "\"colour\""},
        {"kind Tern\n", "line 1", "small letters"},
        {"kind tern puffin\n", "line 1", "more"}}) {
    const std::string error = error_of(text);
    EXPECT_NE(error.find(line), std::string::npos) << text << error;
    EXPECT_NE(error.find(word), std::string::npos) << text << error;
  }
}

TEST(Signatures, TheBuiltInOnesAreRead) {
  EXPECT_GT(Signatures::built_in().kinds().size(), 40u);
  for (const SignatureKind& kind : Signatures::built_in().kinds())
    for (const Beginning& beginning : kind.begins)
      EXPECT_LE(beginning.at + beginning.pattern.size(), 512u) << kind.name;
}

}  // namespace
}  // namespace lantern
