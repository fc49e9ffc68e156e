#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <memory>
#include <ostream>
#include <set>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/output.h"

namespace lantern::cli {
namespace {

constexpr std::size_t kShownBytes = 16;
constexpr std::size_t kShownWrites = 6;
constexpr std::size_t kMostJournals = 1000;

struct Options {
  CommonOptions common;
  std::string source;
  std::string steps;
  CLI::Option* apply = nullptr;
  std::string journal;
  std::string into;
  std::string plan_file;
  std::string set;
  std::vector<std::string> write;
  std::vector<std::string> despite;
  bool every_sector = false;
};

std::string first_bytes(const std::vector<std::byte>& bytes) {
  std::string text;
  for (std::size_t i = 0; i < std::min(bytes.size(), kShownBytes); ++i)
    text += fmt::format("{}{:02x}", i == 0 ? "" : " ", std::to_integer<unsigned>(bytes[i]));
  if (bytes.size() > kShownBytes) text += fmt::format(" ... ({} bytes)", bytes.size());
  return text.empty() ? "nothing" : text;
}

Meaning meaning_of(Certainty certainty) {
  return certainty == Certainty::certain ? Meaning::good : Meaning::deleted;
}

void print_step(const Session& session, const RepairStep& step) {
  std::ostream& out = session.streams.out;
  out << coloured(session.streams, Meaning::heading,
                  fmt::format("{:>3}  {}", step.number, wrapped(for_terminal(step.what), 5)))
      << '\n';
  out << "     " << coloured(session.streams, meaning_of(step.certainty), to_string(step.certainty))
      << ": " << wrapped(for_terminal(step.evidence), 5) << '\n';
  std::size_t shown = 0;
  for (const PlannedWrite& write : step.writes) {
    if (++shown > kShownWrites) {
      out << fmt::format("     and {} more places\n", step.writes.size() - kShownWrites);
      break;
    }
    out << coloured(session.streams, Meaning::quiet,
                    fmt::format("     {} byte {}", for_terminal(write.address), write.offset_bytes))
        << '\n'
        << "       now   " << first_bytes(write.before) << '\n'
        << "       then  " << first_bytes(write.after) << '\n';
  }
  out << coloured(session.streams, Meaning::quiet, "     " + step.code) << "\n\n";
}

std::string reach_text(const Reach& reach) {
  return fmt::format("{}, {}, {}", counted(reach.volumes, "volume"), counted(reach.files, "file"),
                     counted(reach.folders, "folder"));
}

void print_plan(const Session& session, const RepairPlan& plan) {
  std::ostream& out = session.streams.out;
  if (plan.steps.empty()) {
    out << coloured(session.streams, plan.notes.empty() ? Meaning::good : Meaning::plain,
                    plan.notes.empty() ? "Nothing to repair was found."
                                       : "Nothing that could be repaired here was found.")
        << '\n';
  } else {
    out << fmt::format("{} for {}\n\n", counted(plan.steps.size(), "step"),
                       for_terminal(plan.source));
    for (const RepairStep& step : plan.steps) print_step(session, step);
    out << "To be reached now:   " << reach_text(plan.before) << '\n'
        << "With all the steps:  " << reach_text(plan.after) << '\n';
  }
  if (!plan.notes.empty()) out << "\nWrong, and not offered:\n";
  for (const std::string& note : plan.notes) out << "  " << for_terminal(note) << '\n';
}

std::vector<std::size_t> steps_asked_for(const Options& options, const RepairPlan& plan) {
  if (options.steps.empty()) return certain_steps(plan);
  std::vector<std::size_t> steps;
  for (std::size_t from = 0; from <= options.steps.size();) {
    const std::size_t to = std::min(options.steps.find(',', from), options.steps.size());
    std::size_t number = 0;
    const char* const end = options.steps.data() + to;
    const auto read = std::from_chars(options.steps.data() + from, end, number);
    if (read.ec != std::errc{} || read.ptr != end)
      throw Error(ErrorCode::usage, {}, std::nullopt,
                  fmt::format("\"{}\" are no numbers of steps", for_terminal(options.steps)),
                  "name the source first, then --apply or --apply 1,3");
    steps.push_back(number);
    from = to + 1;
  }
  return steps;
}

std::vector<std::byte> hex_bytes(const std::string& text) {
  std::vector<std::byte> bytes;
  unsigned half = 0;
  bool second = false;
  for (const char c : text) {
    if (c == ' ') continue;
    unsigned value = 16;
    if (c >= '0' && c <= '9') value = static_cast<unsigned>(c - '0');
    if (c >= 'a' && c <= 'f') value = static_cast<unsigned>(c - 'a') + 10;
    if (c >= 'A' && c <= 'F') value = static_cast<unsigned>(c - 'A') + 10;
    if (value == 16)
      throw Error(ErrorCode::usage, {}, std::nullopt, "the bytes are not hexadecimal",
                  "for example: --write 510 \"55 aa\"");
    if (second) bytes.push_back(static_cast<std::byte>(half << 4 | value));
    half = value;
    second = !second;
  }
  if (second || bytes.empty())
    throw Error(ErrorCode::usage, {}, std::nullopt, "half a byte, or none",
                "two digits a byte: --write 510 \"55 aa\"");
  return bytes;
}

RepairPlan plan_by_hand(const Options& options, const Address& address, const Context& context) {
  const OpenOptions open = options.common.open_options();
  if (!options.set.empty()) {
    const std::size_t equals = options.set.find('=');
    if (equals == std::string::npos)
      throw Error(ErrorCode::usage, {}, std::nullopt, "--set needs STRUCTURE.FIELD=VALUE",
                  "for example: --set mbr.entry1.active=yes");
    return plan_field(address, options.set.substr(0, equals), options.set.substr(equals + 1), open,
                      context);
  }
  std::uint64_t offset = 0;
  const std::string& text = options.write.at(0);
  const bool hex = text.starts_with("0x");
  const char* const end = text.data() + text.size();
  const auto read = std::from_chars(text.data() + (hex ? 2 : 0), end, offset, hex ? 16 : 10);
  if (read.ec != std::errc{} || read.ptr != end)
    throw Error(ErrorCode::usage, {}, std::nullopt,
                fmt::format("\"{}\" is no byte to write at", for_terminal(text)),
                "for example: --write 510 \"55 aa\"");
  return plan_bytes(address, offset, hex_bytes(options.write.at(1)), open, context);
}

RepairPlan make_plan(const Options& options, const Address& address, const Context& context) {
  if (!options.plan_file.empty()) {
    std::ifstream in(options.plan_file, std::ios::binary);
    if (!in)
      throw Error(ErrorCode::cannot_open, options.plan_file, std::nullopt, "cannot be read",
                  "check the name");
    return read_plan({std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>()});
  }
  if (!options.set.empty() || !options.write.empty())
    return plan_by_hand(options, address, context);
  PlanOptions how;
  how.every_sector = options.every_sector;
  return plan_repair(address, how, options.common.open_options(), context);
}

// "disk.undo" in the current folder, "disk-2.undo" when that is an earlier repair's.
std::string journal_for(const Options& options, const Address& address) {
  if (!options.journal.empty()) return options.journal;
  const std::string stem = std::filesystem::path(address.first).filename().string();
  for (std::size_t i = 1; i < kMostJournals; ++i) {
    const std::string name = i == 1 ? stem + ".undo" : fmt::format("{}-{}.undo", stem, i);
    std::error_code error;
    if (!std::filesystem::exists(std::filesystem::symlink_status(name, error))) return name;
  }
  throw Error(ErrorCode::refused, stem, std::nullopt, "there are too many journals in this folder",
              "name one with --journal");
}

// What a survey says of the disk, to tell what went and what came.
struct Health {
  Reach reach;
  std::set<std::string> findings;  // a line each
};

Health health_of(const Session& session, const Options& options, const Address& address) {
  Context context = session.context;
  context.findings = std::make_shared<FindingSink>();
  Health health;
  try {
    for (const SurveyVolume& volume :
         survey({address}, options.common.open_options(), context).volumes) {
      if (!volume.view.file_system) continue;
      ++health.reach.volumes;
      health.reach.files += volume.files;
      health.reach.folders += volume.folders;
    }
    for (const Finding& finding : context.findings->all())
      if (finding.severity != Severity::note) health.findings.insert(finding.message);
  } catch (const Error& error) {
    health.findings.insert(error.what());
  }
  return health;
}

void tell_difference(const Session& session, const Health& before, const Health& after) {
  std::ostream& out = session.streams.out;
  out << "Reached before:  " << reach_text(before.reach) << '\n'
      << "Reached now:     " << reach_text(after.reach) << '\n';
  for (const std::string& line : before.findings)
    if (!after.findings.contains(line))
      out << coloured(session.streams, Meaning::good, "  gone  ") << for_terminal(line) << '\n';
  for (const std::string& line : after.findings)
    out << coloured(session.streams, Meaning::damaged,
                    before.findings.contains(line) ? "  left  " : "  new   ")
        << for_terminal(line) << '\n';
}

struct Outcome {
  std::vector<std::size_t> applied;
  std::string journal;
  std::uint64_t bytes_written = 0;
  bool done = false;
};

Outcome carry_out(Session& session, const Options& options, const Address& address,
                  const RepairPlan& plan) {
  Outcome outcome;
  outcome.applied = steps_asked_for(options, plan);
  outcome.done = true;
  const OpenOptions open = options.common.open_options();
  if (outcome.applied.empty()) return outcome;
  if (!options.into.empty()) {
    outcome.bytes_written =
        repair_into(plan, outcome.applied, options.into, open, session.context).bytes_written;
    return outcome;
  }
  if (session.context.scratch) {
    try_repair(plan, outcome.applied, open, session.context.scratch, session.context);
    return outcome;
  }
  ApplyOptions how;
  how.host = this_host();
  how.journal = journal_for(options, address);
  how.despite_saved_state = std::find(options.despite.begin(), options.despite.end(),
                                      "saved-state") != options.despite.end();
  const ApplyResult result = apply_repair(plan, outcome.applied, open, how, session.context);
  outcome.journal = result.journal;
  outcome.bytes_written = result.bytes_written;
  return outcome;
}

void print_outcome(const Session& session, const Options& options, const RepairPlan& plan,
                   const Outcome& outcome) {
  std::ostream& out = session.streams.out;
  const std::string source = for_terminal(plan.source);
  if (!outcome.done) {
    if (plan.steps.empty()) return;
    const bool any_certain = !certain_steps(plan).empty();
    out << "\nNothing was written. Next:\n"
        << fmt::format("  lantern repair {} --apply{}\n", source, any_certain ? "" : " 1")
        << fmt::format("  lantern repair {} --apply{} --into TRIAL.qcow2\n", source,
                       any_certain ? "" : " 1");
    return;
  }
  if (outcome.applied.empty()) {
    if (!plan.steps.empty()) {
      out << "No step is certain: name those to make, --apply 1,2\n";
      print_plan(session, plan);
    }
    return;
  }
  std::string numbers;
  for (const std::size_t number : outcome.applied)
    numbers += fmt::format("{}{}", numbers.empty() ? "" : ", ", number);
  const std::string steps =
      fmt::format("step{} {}", outcome.applied.size() == 1 ? "" : "s", numbers);
  if (!options.into.empty())
    out << fmt::format("Made in {}: {}. {} was not changed.\n", for_terminal(options.into), steps,
                       source);
  else if (session.context.scratch)
    out << fmt::format(
        "Laid into {0}: {1}. {2} was not changed.\nLook at it with --scratch {0}, "
        "or delete that file.\n",
        for_terminal(options.common.scratch), steps, source);
  else if (outcome.journal.empty())
    out << "The disk is like that already: nothing was written.\n";
  else
    out << fmt::format("Made: {}, {} written.\nTake it back with:  lantern undo {}\n", steps,
                       counted(outcome.bytes_written, "byte"), for_terminal(outcome.journal));
}

int repair(Session& session, const Options& options) {
  if (options.source.empty() && options.common.source.empty())
    throw Error(ErrorCode::usage, {}, std::nullopt, "no source is named",
                "for example: lantern repair broken.img");
  const Address address = options.common.address(options.source);
  const bool asked = options.apply->count() > 0;
  if (!options.into.empty() && !options.common.scratch.empty())
    throw Error(ErrorCode::usage, {}, std::nullopt, "--into and --scratch are two ways to try",
                "choose one of them");
  const RepairPlan plan = make_plan(options, address, session.context);
  const Address now = options.into.empty() ? address : Address{options.into, {}};
  Health before;
  if (asked) before = health_of(session, options, address);
  if (!options.common.json && (!asked || plan.steps.empty())) print_plan(session, plan);
  Outcome outcome;
  if (asked) outcome = carry_out(session, options, address, plan);
  const bool made = outcome.done && !outcome.applied.empty();
  if (options.common.json) {
    JsonWriter json(session.streams.out);
    json.begin_object();
    write_json(json, plan);
    json.key("applied").begin_array();
    for (const std::size_t number : outcome.applied) json.value(std::uint64_t{number});
    json.end_array().key("journal");
    outcome.journal.empty() ? json.null() : json.value(outcome.journal);
    findings_json(json, session.context);
    json.end_object();
  } else {
    print_outcome(session, options, plan, outcome);
    if (made) tell_difference(session, before, health_of(session, options, now));
  }
  const int code = plan.steps.empty() && plan.notes.empty() ? kDone
                   : made && plan.notes.empty() && outcome.applied.size() == plan.steps.size()
                       ? kDone
                       : kDoneWithFindings;
  append_to_case(options.common.case_folder, session, {address.first},
                 {{options.into.empty() ? outcome.journal : options.into, ""}}, code);
  return code;
}

}  // namespace

Action add_repair(CLI::App& app, Session& session) {
  auto options = std::make_shared<Options>();
  CLI::App* command = app.add_subcommand(
      "repair", "what would put a disk right, as a plan; --apply makes it, with a way back");
  options->common.add_to(*command);
  command->add_option("SRC", options->source, "a disk, or a volume of one");
  options->apply =
      command->add_option("--apply", options->steps, "make the certain steps, or those named: 1,3")
          ->expected(0, 1);
  command->add_option("--journal", options->journal,
                      "where to keep what is needed to take it back (default: SRC.undo here)");
  command->add_option("--into", options->into,
                      "make the steps in a new image on top of SRC, which stays as it is");
  command->add_option("--plan", options->plan_file,
                      "a plan kept from --json, instead of a new one");
  command->add_option("--set", options->set, "by hand: STRUCTURE.FIELD=VALUE, sums made right");
  command->add_option("--write", options->write, "by hand: these bytes at this byte of SRC")
      ->expected(2)
      ->type_name("OFFSET HEX");
  command->add_option("--despite", options->despite, "write although this speaks against it")
      ->check(CLI::IsMember({"saved-state"}));
  command->add_flag("--every-sector", options->every_sector,
                    "look for lost volumes in every sector, not only where they usually are");
  command->footer(
      "Examples: lantern repair broken.img\n"
      "          lantern repair broken.img --apply\n"
      "          lantern repair broken.img --set mbr.entry1.active=yes --apply");
  return [&session, options] { return repair(session, *options); };
}

}  // namespace lantern::cli
