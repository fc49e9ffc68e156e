#include <gtest/gtest.h>

#include <sstream>

#include "kit/bytes.h"
#include "lantern/error.h"
#include "lantern/repair.h"

namespace lantern::repair {
namespace {

RepairPlan plan() {
  RepairPlan plan;
  plan.source = "disk.img";
  plan.sources = {{"disk.img", {1000, 512, "aa"}}, {"parent.img", {2000, 0, "bb"}}};
  for (std::size_t number = 1; number <= 3; ++number) {
    RepairStep step;
    step.number = number;
    step.code = "mbr.signature";
    step.what = "step " + std::to_string(number);
    step.writes = {{"disk.img", 510, {std::byte{0}}, {std::byte{0x55}}}};
    plan.steps.push_back(step);
    plan.fixes.push_back({number, Certainty::likely, "gain", {}, {}, {number}});
  }
  plan.fixes[1].needs = {1};
  plan.fixes[2].alternatives = {1};
  plan.notes = {{"choose by ", Do::set_field}, "plain"};
  return plan;
}

std::string json_of(const RepairPlan& plan) {
  std::ostringstream text;
  JsonWriter json(text);
  json.begin_object();
  write_json(json, plan);
  json.end_object();
  return text.str();
}

TEST(PlanJson, IsReadAsItWasWritten) {
  const RepairPlan read = read_plan(json_of(plan()));
  ASSERT_EQ(read.sources.size(), 2u);
  EXPECT_EQ(read.sources[1].path, "parent.img");
  EXPECT_EQ(read.sources[0].identity.sector_size, 512u);
  ASSERT_EQ(read.fixes.size(), 3u);
  EXPECT_EQ(read.fixes[1].needs, std::vector<std::size_t>{1});
  EXPECT_EQ(read.fixes[2].alternatives, std::vector<std::size_t>{1});
  ASSERT_EQ(read.steps.size(), 3u);
  EXPECT_EQ(read.steps[2].writes[0].after, std::vector<std::byte>{std::byte{0x55}});
  EXPECT_NE(json_of(plan()).find("choose by a field set manually"), std::string::npos);
}

TEST(PlanJson, AnEditedPlanIsRefused) {
  const std::string whole = json_of(plan());
  const std::vector<std::pair<std::string, std::string>> edits = {
      {"\"55\"", "\"56\""},  // a byte
      {"\"offset_bytes\": 510", "\"offset_bytes\": 511"},
      {"\"parent.img\"", "\"other.img\""},  // a source
      {"\"likely\"", "\"certain\""},
      {"\"samples_sha256\": \"aa\"", "\"samples_sha256\": \"ab\""}};
  for (const auto& [from, to] : edits) {
    std::string edited = whole;
    const std::size_t at = edited.find(from);
    ASSERT_NE(at, std::string::npos) << from;
    edited.replace(at, from.size(), to);
    EXPECT_THROW(read_plan(edited), Error) << from;
  }
}

TEST(PlanJson, WhatIsNoPlanIsAnError) {
  const std::string whole = json_of(plan());
  for (const std::string& text :
       {std::string(), std::string("{}"), std::string("[]"), whole.substr(0, whole.size() / 2),
        std::string(R"({"source": 1})"), std::string(R"({"source": "a", "sources": []})")})
    EXPECT_THROW(read_plan(text), Error) << text.substr(0, 30);
}

TEST(PlanChoices, NeedsAndAlternativesAreMinded) {
  const RepairPlan made = plan();
  EXPECT_TRUE(certain_fixes(made).empty());
  EXPECT_EQ(first_choice(made), std::vector<std::size_t>{1});
  EXPECT_EQ(all_together(made), (std::vector<std::size_t>{1, 2}));
  EXPECT_EQ(steps_of(made, {1, 2}), (std::vector<std::size_t>{1, 2}));
  try {
    steps_of(made, {2});
    ADD_FAILURE();
  } catch (const Error& error) {
    EXPECT_EQ(error.next_step().text(), "name both: apply 1,2");
  }
  EXPECT_THROW(steps_of(made, {1, 3}), Error);
  EXPECT_THROW(steps_of(made, {4}), Error);
  EXPECT_THROW(steps_of(made, {0}), Error);
}

}  // namespace
}  // namespace lantern::repair
