#include "lantern/address.h"

#include <gtest/gtest.h>
#include <rapidcheck.h>

#include "lantern/error.h"
#include "lantern/text.h"

namespace lantern {
namespace {

using Kind = Step::Kind;

Address parse(std::string_view text) {
  return Address::parse(text, [](const std::string&) { return false; });
}

TEST(Address, ReadsEveryKindOfStep) {
  const Address address = parse(
      "a.vdi::2::at=1048576::lost-3::label=KEEPER::uuid=1A2B-3C4D::lv:group/"
      "name::md:home::log.txt::./2::"
      "/Keeper/log%2Fbook.txt::@1234-7::stream=s::version=v::bytes");
  EXPECT_EQ(address.first, "a.vdi");
  const std::vector<Step> expected = {
      volume_step(2),
      {Kind::at, 1048576, {}, {}},
      {Kind::lost, 3, {}, {}},
      {Kind::label, 0, "KEEPER", {}},
      {Kind::uuid, 0, "1A2B-3C4D", {}},
      {Kind::logical_volume, 0, "group/name", {}},
      {Kind::array, 0, "home", {}},
      {Kind::member, 0, "log.txt", {}},
      {Kind::member, 0, "2", {}},
      path_step({"Keeper", "log/book.txt"}),
      entry_step("1234-7"),
      {Kind::stream, 0, "s", {}},
      {Kind::version, 0, "v", {}},
      {Kind::bytes, 0, {}, {}},
  };
  EXPECT_EQ(address.steps, expected);
}

TEST(Address, PrintsWhatWouldBeMisreadEscaped) {
  Address address;
  address.first = "d";
  address.steps = {path_step({"a::b", ":c", "50%", "x\ny", "\xFF", "d/e"})};
  EXPECT_EQ(address.print(), "d::/a%3A%3Ab/:c/50%25/x%0Ay/%FF/d%2Fe");
  EXPECT_EQ(print_step(path_step({"end:"})), "/end%3A");
  EXPECT_EQ(print_step(path_step({})), "/");
}

TEST(Address, WhatExistsWholeIsFirstAlone) {
  const auto there = [](const std::string& path) {
    return path == "odd::name" || path == "odd::name::2";
  };
  EXPECT_EQ(Address::parse("odd::name", there).first, "odd::name");
  EXPECT_TRUE(Address::parse("odd::name::2", there).steps.empty());
  EXPECT_EQ(Address::parse("odd::name::3", there).first, "odd::name");
  EXPECT_EQ(Address::parse("odd::name::3", there).steps, std::vector<Step>{volume_step(3)});
  EXPECT_EQ(parse("odd::name").first, "odd");
}

TEST(Address, RefusesWhatIsNoAddress) {
  for (const char* text : {"", "::2", "d::", "d::::2", "d::at=x", "d::at=99999999999999999999",
                           "d::/a%2", "d::/a%zz", "d::99999999999999999999999"}) {
    try {
      parse(text);
      ADD_FAILURE() << text;
    } catch (const Error& error) {
      EXPECT_EQ(error.code(), ErrorCode::usage) << text;
    }
  }
}

rc::Gen<std::string> any_name() {
  return rc::gen::nonEmpty(rc::gen::container<std::string>(rc::gen::oneOf(
      rc::gen::arbitrary<char>(), rc::gen::element(':', '/', '%', '@', '.', '=', '2', 'b', ' '))));
}

rc::Gen<Step> any_step() {
  const auto text = [](Kind kind) {
    return rc::gen::map(any_name(), [kind](std::string s) {
      return Step{kind, 0, std::move(s), {}};
    });
  };
  const auto number = [](Kind kind) {
    return rc::gen::map(rc::gen::arbitrary<std::uint64_t>(), [kind](std::uint64_t n) {
      return Step{kind, n, {}, {}};
    });
  };
  return rc::gen::oneOf(
      number(Kind::volume), number(Kind::at), number(Kind::lost), text(Kind::label),
      text(Kind::uuid), text(Kind::logical_volume), text(Kind::array), text(Kind::member),
      text(Kind::entry), text(Kind::stream), text(Kind::version),
      rc::gen::just(Step{Kind::bytes, 0, {}, {}}),
      rc::gen::map(rc::gen::container<std::vector<std::string>>(any_name()),
                   [](std::vector<std::string> names) { return path_step(std::move(names)); }));
}

TEST(Address, ParseOfPrintIsTheSame) {
  EXPECT_TRUE(rc::check("parse(print(a)) == a", [] {
    Address address;
    address.first = *any_name();
    address.steps = *rc::gen::container<std::vector<Step>>(any_step());
    const std::string text = address.print();
    const auto there = [&](const std::string& path) { return path == address.first; };
    RC_ASSERT(Address::parse(text, there) == address);
    // Safe for a terminal and for JSON but for FIRST, which is the user's own.
    for (const Step& step : address.steps)
      RC_ASSERT(for_terminal(print_step(step)) == print_step(step));
  }));
}

}  // namespace
}  // namespace lantern
