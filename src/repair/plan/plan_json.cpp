#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/bytes.h"
#include "base/json_reader.h"
#include "base/sha256.h"
#include "lantern/error.h"
#include "lantern/repair.h"

namespace lantern::repair {
namespace {

constexpr std::size_t kMaxSteps = 10'000;

std::string hexadecimal(ByteView bytes) {
  std::string text;
  text.reserve(2 * bytes.size());
  for (const std::byte byte : bytes) text += fmt::format("{:02x}", std::to_integer<unsigned>(byte));
  return text;
}

[[noreturn]] void fail(const std::string& what) {
  throw Error(ErrorCode::cannot_read, "the plan", std::nullopt, what,
              {"make it again: ", Do::plan_as_json});
}

Bytes bytes_of(const std::string& text) {
  const auto digit = [](char c) -> unsigned {
    if (c >= '0' && c <= '9') return static_cast<unsigned>(c - '0');
    if (c >= 'a' && c <= 'f') return static_cast<unsigned>(c - 'a') + 10;
    fail("bytes are not hexadecimal");
  };
  if (text.size() % 2 != 0) fail("bytes are not hexadecimal");
  Bytes bytes;
  for (std::size_t i = 0; i < text.size(); i += 2)
    bytes.push_back(static_cast<std::byte>(digit(text[i]) << 4 | digit(text[i + 1])));
  return bytes;
}

// Over all that is written and where, so that an edited plan is not made by mistake.
std::string sum_of(const RepairPlan& plan) {
  std::string all = plan.source;
  for (const PlanSource& source : plan.sources)
    all += fmt::format("\n{} {}", source.path, source.identity.samples_sha256);
  for (const RepairFix& fix : plan.fixes)
    all += fmt::format("\nfix {} {} {} {} {}", fix.number, to_string(fix.certainty),
                       fmt::join(fix.needs, ","), fmt::join(fix.alternatives, ","),
                       fmt::join(fix.steps, ","));
  for (const RepairStep& step : plan.steps) {
    all += fmt::format("\n{} {} {}", step.number, step.code, to_string(step.certainty));
    for (const PlannedWrite& write : step.writes)
      all += fmt::format("\n{} {} {} {}", write.address, write.offset_bytes,
                         hexadecimal(write.before), hexadecimal(write.after));
  }
  return sha256_hex(all);
}

void put_reach(JsonWriter& json, const char* key, const Reach& reach) {
  json.key(key).begin_object().key("volumes").value(reach.volumes);
  json.key("files").value(reach.files).key("folders").value(reach.folders).end_object();
}

void put_numbers(JsonWriter& json, const char* key, const std::vector<std::size_t>& numbers) {
  json.key(key).begin_array();
  for (const std::size_t number : numbers) json.value(std::uint64_t{number});
  json.end_array();
}

// The steps that have to be made before a step: those before it in its fix, and all of the fixes
// that one needs.
std::vector<std::size_t> steps_before(const RepairPlan& plan, std::size_t number) {
  std::vector<std::size_t> steps;
  for (const RepairFix& fix : plan.fixes) {
    if (std::find(fix.steps.begin(), fix.steps.end(), number) == fix.steps.end()) continue;
    for (const std::size_t need : fix.needs)
      for (const std::size_t step : plan.fixes.at(need - 1).steps) steps.push_back(step);
    for (const std::size_t step : fix.steps)
      if (step < number) steps.push_back(step);
  }
  return steps;
}

Certainty certainty_of(const std::string& text) {
  for (const Certainty one : {Certainty::certain, Certainty::likely, Certainty::possible})
    if (text == to_string(one)) return one;
  fail("has a certainty that is not known: " + text);
}

std::vector<std::size_t> numbers_of(const JsonValue& list, std::size_t most) {
  std::vector<std::size_t> numbers;
  for (const auto& [name, number] : list.members()) {
    numbers.push_back(number.number());
    if (numbers.back() == 0 || numbers.back() > most) fail("names a step or fix it does not have");
  }
  return numbers;
}

}  // namespace

void write_json(JsonWriter& json, const RepairPlan& plan) {
  json.key("source").value(plan.source);
  json.key("sources").begin_array();
  for (const PlanSource& source : plan.sources) {
    json.begin_object().key("path").value(source.path);
    json.key("size_bytes").value(source.identity.size_bytes);
    json.key("sector_size").value(source.identity.sector_size);
    json.key("samples_sha256").value(source.identity.samples_sha256).end_object();
  }
  json.end_array();
  json.key("fixes").begin_array();
  for (const RepairFix& fix : plan.fixes) {
    json.begin_object().key("number").value(std::uint64_t{fix.number});
    json.key("certainty").value(to_string(fix.certainty)).key("gain").value(fix.gain);
    put_numbers(json, "needs", fix.needs);
    put_numbers(json, "alternatives", fix.alternatives);
    put_numbers(json, "steps", fix.steps);
    json.end_object();
  }
  json.end_array().key("steps").begin_array();
  for (const RepairStep& step : plan.steps) {
    json.begin_object()
        .key("number")
        .value(std::uint64_t{step.number})
        .key("code")
        .value(step.code);
    json.key("certainty").value(to_string(step.certainty)).key("what").value(step.what);
    json.key("evidence").value(step.evidence);
    put_numbers(json, "needs", steps_before(plan, step.number));
    json.key("writes").begin_array();
    for (const PlannedWrite& write : step.writes) {
      json.begin_object().key("address").value(write.address);
      json.key("offset_bytes").value(write.offset_bytes);
      json.key("before").value(hexadecimal(write.before));
      json.key("after").value(hexadecimal(write.after)).end_object();
    }
    json.end_array().end_object();
  }
  json.end_array();
  json.key("steps_sha256").value(sum_of(plan));
  put_reach(json, "before", plan.before);
  put_reach(json, "after", plan.after);
  put_reach(json, "after_all", plan.after_all);
  json.key("notes").begin_array();
  for (const Advice& note : plan.notes) json.value(note.text());
  json.end_array();
}

RepairPlan read_plan(const std::string& text) {
  const auto parsed = JsonValue::parse(text);
  if (!parsed || !parsed->is_object()) fail("is incomplete or not a plan");
  const JsonValue& document = *parsed;
  RepairPlan plan;
  try {
    plan.source = document.at("source").text();
    for (const auto& [name, row] : document.at("sources").members()) {
      if (plan.sources.size() >= kMaxSteps) fail("has too many sources");
      PlanSource source;
      source.path = row.at("path").text();
      source.identity.size_bytes = row.at("size_bytes").number();
      source.identity.sector_size = static_cast<std::uint32_t>(row.at("sector_size").number());
      source.identity.samples_sha256 = row.at("samples_sha256").text();
      plan.sources.push_back(std::move(source));
    }
    if (plan.sources.empty()) fail("names no source");
    for (const auto& [name, row] : document.at("steps").members()) {
      if (plan.steps.size() >= kMaxSteps) fail("has too many steps");
      RepairStep step;
      step.number = plan.steps.size() + 1;
      if (row.at("number").number() != step.number) fail("its steps are not in order");
      step.code = row.at("code").text();
      step.what = row.at("what").text();
      step.evidence = row.at("evidence").text();
      step.certainty = certainty_of(row.at("certainty").text());
      for (const JsonValue::Member& item : row.at("writes").members()) {
        const JsonValue& cell = item.second;
        PlannedWrite write;
        write.address = cell.at("address").text();
        write.offset_bytes = cell.at("offset_bytes").number();
        write.before = bytes_of(cell.at("before").text());
        write.after = bytes_of(cell.at("after").text());
        step.writes.push_back(std::move(write));
      }
      plan.steps.push_back(std::move(step));
    }
    for (const auto& [name, row] : document.at("fixes").members()) {
      if (plan.fixes.size() >= kMaxSteps) fail("has too many fixes");
      RepairFix fix;
      fix.number = plan.fixes.size() + 1;
      if (row.at("number").number() != fix.number) fail("its fixes are not in order");
      fix.certainty = certainty_of(row.at("certainty").text());
      fix.gain = row.at("gain").text();
      fix.needs = numbers_of(row.at("needs"), plan.fixes.size());
      fix.alternatives = numbers_of(row.at("alternatives"), document.at("fixes").size());
      fix.steps = numbers_of(row.at("steps"), plan.steps.size());
      plan.fixes.push_back(std::move(fix));
    }
    if (document.at("steps_sha256").text() != sum_of(plan))
      fail("was edited since it was made: manual changes are made with --set or --write");
  } catch (const JsonMismatch& error) {
    fail(std::string("something is missing or of another kind: ") + error.what());
  }
  return plan;
}

}  // namespace lantern::repair
