#include "cli/option_parser.h"

#include <gtest/gtest.h>

#include <sstream>

#include "lantern/error.h"

namespace lantern::cli {
namespace {

class OptionParserTest : public ::testing::Test {
 protected:
  OptionParserTest() : parser_("what it is", "lantern 9", "the end") {
    const Command count = parser_.command("count", "counts nests");
    count.flag("--quick", quick_, "look once");
    count.option("FOLDER", folder_, "where").required();
    count.option("--name", names_, "repeatable");
    count.option("--as", kind_, "kind").one_of({"egg", "chick"});
    least_ = count.option("--least", share_, "in percent").between(0, 100);
    count.footer("Example: lantern count ledge");
    parser_.command("rest", "does nothing");
  }
  // What is said of wrong words; empty: nothing is.
  std::string fault(const std::vector<std::string>& words) {
    std::ostringstream out;
    try {
      parser_.parse(words, out);
    } catch (const Error& error) {
      EXPECT_EQ(error.code(), ErrorCode::usage);
      return error.what();
    }
    return {};
  }

  OptionParser parser_;
  bool quick_ = false;
  std::string folder_, kind_;
  std::vector<std::string> names_;
  double share_ = 0;
  std::optional<OptionHandle> least_;
};

TEST_F(OptionParserTest, GivesTheCommandAndFillsItsVariables) {
  std::ostringstream out;
  EXPECT_EQ(parser_.parse(
                {"count", "ledge", "--quick", "--name", "a", "--name", "b", "--as", "egg"}, out),
            "count");
  EXPECT_TRUE(quick_);
  EXPECT_EQ(folder_, "ledge");
  EXPECT_EQ(names_, (std::vector<std::string>{"a", "b"}));
  EXPECT_EQ(kind_, "egg");
  EXPECT_FALSE(least_->given());
  EXPECT_EQ(out.str(), "");
}

TEST_F(OptionParserTest, ANearMissIsToldWhatMayBeMeant) {
  EXPECT_NE(fault({"coutn"}).find("did you mean count?"), std::string::npos);
  EXPECT_NE(fault({"rst"}).find("did you mean rest?"), std::string::npos);
  EXPECT_NE(fault({"count", "x", "--quik"}).find("did you mean --quick?"), std::string::npos);
  EXPECT_NE(fault({"count", "x", "--nane=b"}).find("did you mean --name?"), std::string::npos);
  for (const std::string far : {"x", "cormorant", ""})
    EXPECT_EQ(fault({far}).find("did you mean"), std::string::npos) << far;
  EXPECT_EQ(fault({"count", "x", "--lighthouse"}).find("did you mean"), std::string::npos);
}

TEST_F(OptionParserTest, HelpAsAWordIsTheHelpOfACommand) {
  std::ostringstream asked, said;
  EXPECT_FALSE(parser_.parse({"help", "count"}, asked));
  EXPECT_FALSE(parser_.parse({"count", "--help"}, said));
  EXPECT_EQ(asked.str(), said.str());
  std::ostringstream all;
  EXPECT_FALSE(parser_.parse({"help"}, all));
  EXPECT_NE(all.str().find("what it is"), std::string::npos);
}

TEST_F(OptionParserTest, WrongWordsAreOneLineThatNamesThem) {
  EXPECT_NE(fault({"coutn"}).find("there is no command \"coutn\""), std::string::npos);
  EXPECT_NE(fault({"count"}).find("FOLDER"), std::string::npos);
  EXPECT_NE(fault({"count", "x", "--as", "stone"}).find("stone"), std::string::npos);
  EXPECT_NE(fault({"count", "x", "--least", "101"}).find("101"), std::string::npos);
  EXPECT_NE(fault({"count", "x", "--loud"}).find("--loud"), std::string::npos);
  for (const char* words : {"coutn", "count"})
    EXPECT_EQ(fault({words}).find('\n'), std::string::npos);
  EXPECT_EQ(fault({"rest"}), "");
}

TEST_F(OptionParserTest, HelpAndVersionAreNoFaultAndNoCommand) {
  std::ostringstream out;
  EXPECT_EQ(parser_.parse({"count", "--help"}, out), std::nullopt);
  EXPECT_NE(out.str().find("Example: lantern count ledge"), std::string::npos);
  EXPECT_NE(out.str().find("egg"), std::string::npos);
  std::ostringstream version;
  EXPECT_EQ(parser_.parse({"--version"}, version), std::nullopt);
  EXPECT_EQ(version.str(), "lantern 9\n");
}

}  // namespace
}  // namespace lantern::cli
