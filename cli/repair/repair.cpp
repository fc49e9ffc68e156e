#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <memory>
#include <ostream>
#include <set>

#include "cli/advice.h"
#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/output.h"
#include "cli/repair/journal_name.h"
#include "lantern/repair/grow.h"

namespace lantern::cli {
namespace {

using namespace repair;

constexpr std::size_t kShownBytes = 16;
constexpr std::size_t kShownWrites = 6;

struct Options {
  CommonOptions common;
  std::string source;
  std::string fixes;
  std::optional<OptionHandle> apply;
  std::string journal;
  std::string into;
  std::string plan_file;
  std::string set;
  std::vector<std::string> write;
  std::vector<std::string> copy_from;  // the healthy disk, then what is taken from it
  std::vector<std::string> overrides;
  bool drop_trial = false;
  bool every_sector = false;
  // Of `grow`, which is a plan, too.
  bool grows = false;
  std::string to, by;
  bool move_swap = false;
  std::uint64_t volume = 0;  // 0: the likely one
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

void print_step(const Job& job, const RepairStep& step) {
  std::ostream& out = job.streams.out;
  out << fmt::format("{:>5}  {}\n", step.number, wrapped(for_terminal(step.what), 7)) << "       "
      << wrapped(for_terminal(step.evidence), 7) << '\n';
  std::size_t shown = 0;
  for (const PlannedWrite& write : step.writes) {
    if (++shown > kShownWrites) {
      out << fmt::format("       and {} more places\n", step.writes.size() - kShownWrites);
      break;
    }
    out << coloured(
               job.streams, Meaning::quiet,
               fmt::format("       {} byte {}", for_terminal(write.address), write.offset_bytes))
        << '\n'
        << "         now   " << first_bytes(write.before) << '\n'
        << "         then  " << first_bytes(write.after) << '\n';
  }
  out << coloured(job.streams, Meaning::quiet, "       " + step.code) << '\n';
}

void print_fix(const Job& job, const RepairPlan& plan, const RepairFix& fix) {
  std::ostream& out = job.streams.out;
  out << coloured(job.streams, Meaning::heading, fmt::format("Fix {}", fix.number)) << "  "
      << coloured(job.streams, meaning_of(fix.certainty), to_string(fix.certainty))
      << (fix.needs.empty() ? std::string()
                            : fmt::format(", needs fix {}", fmt::join(fix.needs, ", ")))
      << (fix.alternatives.empty()
              ? std::string()
              : fmt::format(", or instead fix {}", fmt::join(fix.alternatives, ", ")))
      << "\n  gain: " << wrapped(for_terminal(fix.gain), 8) << '\n';
  for (const std::size_t number : fix.steps) print_step(job, plan.steps.at(number - 1));
  out << '\n';
}

std::string reach_text(const Reach& reach) {
  return fmt::format("{}, {}, {}", counted(reach.volumes, "volume"), counted(reach.files, "file"),
                     counted(reach.folders, "folder"));
}

std::string list_of(const std::vector<std::size_t>& numbers) {
  return fmt::format("{}", fmt::join(numbers, ","));
}

void print_plan(const Job& job, const RepairPlan& plan) {
  std::ostream& out = job.streams.out;
  if (plan.fixes.empty()) {
    out << coloured(job.streams, plan.notes.empty() ? Meaning::good : Meaning::plain,
                    plan.notes.empty() ? "Nothing to repair was found." : "Nothing is proposed.")
        << '\n';
  } else {
    out << fmt::format("{} {} for {}\n\n", plan.fixes.size(),
                       plan.fixes.size() == 1 ? "fix" : "fixes", for_terminal(plan.source));
    for (const RepairFix& fix : plan.fixes) print_fix(job, plan, fix);
    const std::vector<std::size_t> first = first_choice(plan);
    out << "Accessible now:     " << reach_text(plan.before) << '\n'
        << fmt::format("{:<20}",
                       fmt::format("With fix{} {}:", first.size() == 1 ? "" : "es", list_of(first)))
        << reach_text(plan.after) << '\n';
    const std::vector<std::size_t> all = all_together(plan);
    if (first.size() < all.size())
      out << fmt::format("{:<20}", all.size() == plan.fixes.size()
                                       ? "With all fixes:"
                                       : fmt::format("With fixes {}:", list_of(all)))
          << reach_text(plan.after_all) << '\n';
  }
  if (!plan.notes.empty()) out << "\nNot proposed, or to know:\n";
  for (const Advice& text : plan.notes)
    out << "  " << wrapped(for_terminal(advice_text(text)), 2) << '\n';
}

std::vector<std::size_t> fixes_asked_for(const Options& options, const RepairPlan& plan) {
  if (options.fixes.empty()) return certain_fixes(plan);
  std::vector<std::size_t> fixes;
  for (std::size_t from = 0; from <= options.fixes.size();) {
    const std::size_t to = std::min(options.fixes.find(',', from), options.fixes.size());
    std::size_t number = 0;
    const char* const end = options.fixes.data() + to;
    const auto read = std::from_chars(options.fixes.data() + from, end, number);
    if (read.ec != std::errc{} || read.ptr != end)
      throw Error(ErrorCode::usage, {}, std::nullopt,
                  fmt::format("\"{}\" is not a list of fix numbers", for_terminal(options.fixes)),
                  "name the source first, then --apply or --apply 1,3");
    fixes.push_back(number);
    from = to + 1;
  }
  return fixes;
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

RepairPlan manual_plan(const Options& options, const Address& address, const Session& session) {
  if (!options.set.empty()) {
    const std::size_t equals = options.set.find('=');
    if (equals == std::string::npos)
      throw Error(ErrorCode::usage, {}, std::nullopt, "--set needs STRUCTURE.FIELD=VALUE",
                  "for example: --set mbr.entry1.active=yes");
    return plan_field(address, options.set.substr(0, equals), options.set.substr(equals + 1),
                      session);
  }
  if (!options.copy_from.empty())
    return plan_copy(address, Address::parse(options.copy_from.front()),
                     {options.copy_from.begin() + 1, options.copy_from.end()}, session);
  std::uint64_t offset = 0;
  const std::string& text = options.write.at(0);
  const bool hex = text.starts_with("0x");
  const char* const end = text.data() + text.size();
  const auto read = std::from_chars(text.data() + (hex ? 2 : 0), end, offset, hex ? 16 : 10);
  if (read.ec != std::errc{} || read.ptr != end)
    throw Error(ErrorCode::usage, {}, std::nullopt,
                fmt::format("\"{}\" is not a byte to write at", for_terminal(text)),
                "for example: --write 510 \"55 aa\"");
  return plan_bytes(address, offset, hex_bytes(options.write.at(1)), session);
}

// "60G", "512M", "1073741824": K, M, G and T are powers of 1024.
std::optional<std::uint64_t> size_in(const std::string& text) {
  if (text.empty()) return std::nullopt;
  constexpr std::string_view kUnits = "KMGT";
  double number = 0;
  const char* const end = text.data() + text.size();
  const auto read = std::from_chars(text.data(), end, number);
  const std::string_view unit(read.ptr, static_cast<std::size_t>(end - read.ptr));
  const std::size_t power = unit.empty() ? 0 : kUnits.find(unit.front()) + 1;
  constexpr double kMax = 1e18;
  const double bytes = number * std::pow(1024.0, static_cast<double>(power));
  if (read.ec != std::errc{} || unit.size() > 1 || (!unit.empty() && power == 0) || bytes < 1 ||
      bytes > kMax)
    throw Error(ErrorCode::usage, text, std::nullopt, "is no size", "for example: 60G, 512M");
  return static_cast<std::uint64_t>(bytes);
}

RepairPlan make_plan(const Options& options, const Address& address, const Session& session) {
  if (!options.plan_file.empty()) {
    constexpr std::uintmax_t kMaxPlan = 256u << 20;
    std::error_code error;
    const bool file = std::filesystem::is_regular_file(options.plan_file, error);
    if (std::filesystem::exists(options.plan_file, error) &&
        (!file || std::filesystem::file_size(options.plan_file, error) > kMaxPlan))
      throw Error(ErrorCode::cannot_read, options.plan_file, std::nullopt,
                  file ? "is too large for a plan" : "is not a file",
                  "name a file that lantern repair SRC --json made");
    std::ifstream in(options.plan_file, std::ios::binary);
    if (!in)
      throw Error(ErrorCode::cannot_open, options.plan_file, std::nullopt, "cannot be read",
                  "check the name");
    return read_plan({std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>()});
  }
  if (options.grows) {
    GrowOptions how{size_in(options.to), size_in(options.by), {}, options.move_swap};
    if (options.volume != 0) how.volume = options.volume;
    return plan_grow(address, how, session);
  }
  if (!options.set.empty() || !options.write.empty() || !options.copy_from.empty())
    return manual_plan(options, address, session);
  PlanOptions how;
  how.every_sector = options.every_sector;
  return plan_repair(address, how, session);
}

// What a survey says of the disk, to tell what went and what came.
struct Health {
  Reach reach;
  std::set<std::string> findings;  // a line each
};

Health health_of(const Job& job, const Options& options, const Address& address) {
  Context context = job.context;
  context.findings = std::make_shared<FindingSink>();
  Health health;
  try {
    const SurveyReport report =
        survey({address}, options.common.session(job).with(context), {true, false});
    for (const SurveyVolume& volume : report.volumes) {
      if (!volume.listed || !volume.layer->file_system()) continue;
      ++health.reach.volumes;
      health.reach.files += volume.files;
      health.reach.folders += volume.folders;
    }
    for (const Finding& finding : context.findings->all())
      if (finding.severity != Severity::note) health.findings.insert(finding.message);
  } catch (const Error& error) {
    health.findings.insert(error_text(error));
  }
  return health;
}

void tell_difference(const Job& job, const Health& before, const Health& after) {
  std::ostream& out = job.streams.out;
  out << "Accessible before:  " << reach_text(before.reach) << '\n'
      << "Accessible now:     " << reach_text(after.reach) << '\n';
  for (const std::string& line : before.findings)
    if (!after.findings.contains(line))
      out << coloured(job.streams, Meaning::good, "  gone  ") << for_terminal(line) << '\n';
  for (const std::string& line : after.findings)
    out << coloured(job.streams, Meaning::damaged,
                    before.findings.contains(line) ? "  left  " : "  new   ")
        << for_terminal(line) << '\n';
}

std::string folder_of(const std::string& path) {
  return std::filesystem::absolute(path).parent_path().string();
}

struct Outcome {
  std::vector<std::size_t> fixes;  // numbers
  ApplyResult result;
  bool done = false;
};

Outcome carry_out(Job& job, const Options& options, const Address& address,
                  const RepairPlan& plan) {
  Outcome outcome;
  outcome.fixes = fixes_asked_for(options, plan);
  outcome.done = true;
  const Session& session = options.common.session(job);
  const std::vector<std::size_t> steps = steps_of(plan, outcome.fixes);
  if (steps.empty()) return outcome;
  if (!options.into.empty()) {
    outcome.result = repair_into(plan, steps, options.into, session);
    return outcome;
  }
  if (job.context.scratch) {
    try_repair(plan, steps, session, job.context.scratch);
    outcome.result.applied = steps;
    return outcome;
  }
  ApplyOptions how;
  how.host = options.common.host(job);
  how.journal = options.journal.empty() ? new_journal(address) : options.journal;
  for (const std::string& guard : options.overrides) {
    how.override_suspended = how.override_suspended || guard == "suspended";
    how.override_lock_file = how.override_lock_file || guard == "lock-file";
  }
  how.drop_trial = options.drop_trial;
  outcome.result = apply_repair(plan, steps, session, how);
  return outcome;
}

// The command that was typed, as it can be typed again, with other words of `repair` at its end.
std::string command_with(const Job& job, const std::string& words) {
  std::string command = "lantern";
  bool value = false;  // the word before takes this one
  for (const std::string& word : job.arguments) {
    const bool skipped = value;
    value = word == "--case" || word == "--journal" || word == "--into" || word == "--apply";
    if (!skipped && !value && word != "--json" && !word.starts_with("--apply="))
      command += " " + for_shell(word);
  }
  return command + words;
}

void print_next(const Job& job, const RepairPlan& plan) {
  if (plan.fixes.empty()) return;
  std::ostream& out = job.streams.out;
  const auto apply = [&](const std::vector<std::size_t>& fixes) {
    return certain_fixes(plan) == fixes ? std::string(" --apply") : " --apply " + list_of(fixes);
  };
  const std::vector<std::size_t> first = first_choice(plan);
  out << "\nNothing was written. Next:\n  " << command_with(job, apply(first)) << '\n';
  const std::vector<std::size_t> all = all_together(plan);
  if (first.size() < all.size()) out << "  " << command_with(job, apply(all)) << '\n';
  // An image can only be based on one that is a file of its own, and what changes that file is of
  // no use in it.
  const bool in_others =
      !Address::parse(plan.source).steps.empty() ||
      std::any_of(plan.steps.begin(), plan.steps.end(), [&](const RepairStep& step) {
        return std::any_of(step.writes.begin(), step.writes.end(),
                           [&](const PlannedWrite& write) { return write.address != plan.source; });
      });
  out << "  "
      << command_with(
             job, apply(first) + (in_others ? " --overlay TRIAL.changes" : " --into TRIAL.qcow2"))
      << '\n';
}

void print_outcome(const Job& job, const Options& options, const RepairPlan& plan,
                   const Outcome& outcome) {
  std::ostream& out = job.streams.out;
  const std::string source = for_terminal(plan.source);
  if (!outcome.done) return print_next(job, plan);
  if (outcome.fixes.empty()) {
    if (!plan.fixes.empty()) {
      print_plan(job, plan);
      out << fmt::format("\nNo fix is certain, so nothing was written. Next:\n  {}\n",
                         command_with(job, " --apply " + list_of(first_choice(plan))));
    }
    return;
  }
  const std::string fixes = fmt::format("fix {}", list_of(outcome.fixes));
  if (!options.into.empty()) {
    out << fmt::format("Applied in {}: {}. {} was not changed.\n", for_terminal(options.into),
                       fixes, source);
    const std::string parents = folder_of(plan.source);
    if (parents != folder_of(options.into))
      out << fmt::format("Look at it with:  lantern survey {} --search-dir {}\n",
                         for_shell(options.into), for_shell(parents));
  } else if (job.context.scratch)
    out << fmt::format(
        "Written to {0}: {1}. {2} was not changed.\nLook at it with --overlay {0}, "
        "or delete that file.\n",
        for_terminal(job.scratch_file), fixes, source);
  else if (outcome.result.journal.empty())
    out << "The disk is like that already: nothing was written.\n";
  else
    out << fmt::format("Applied: {}, {} written.\nTake it back with:  lantern undo {}\n", fixes,
                       counted(outcome.result.bytes_written, "byte"),
                       for_shell(outcome.result.journal));
  for (const std::string& trial : outcome.result.trials_dropped)
    out << fmt::format("{} was a trial of this disk and is deleted.\n", for_terminal(trial));
  for (const std::string& trial : outcome.result.trials_outdated)
    out << fmt::format("{} is a trial of this disk as it was, and no longer fits: delete it.\n",
                       for_terminal(trial));
}

int repair(Job& job, const Options& options) {
  if (options.source.empty() && options.common.source.empty())
    throw Error(ErrorCode::usage, {}, std::nullopt, "no source is named",
                options.grows ? "for example: lantern grow station.qcow2 --to 60G"
                              : "for example: lantern repair broken.img");
  if (!options.to.empty() && !options.by.empty())
    throw Error(ErrorCode::usage, {}, std::nullopt, "--to is a size, --by what is added to it",
                "choose one of them");
  const Address address = options.common.address(options.source);
  const bool asked = options.apply->given();
  if (!options.into.empty() && !job.scratch_file.empty())
    throw Error(ErrorCode::usage, {}, std::nullopt, "--into and --overlay are two ways to try",
                "choose one of them");
  const RepairPlan plan = make_plan(options, address, options.common.session(job));
  const Address now = options.into.empty() ? address : Address{options.into, {}};
  Health before;
  if (asked) before = health_of(job, options, address);
  if (!options.common.json && (!asked || plan.fixes.empty())) print_plan(job, plan);
  Outcome outcome;
  if (asked) outcome = carry_out(job, options, address, plan);
  const bool applied = outcome.done && !outcome.fixes.empty();
  if (options.common.json) {
    JsonWriter json(job.streams.out);
    json.begin_object();
    write_json(json, plan);
    json.key("applied").begin_array();
    for (const std::size_t number : outcome.fixes) json.value(std::uint64_t{number});
    json.end_array().key("journal");
    outcome.result.journal.empty() ? json.null() : json.value(outcome.result.journal);
    findings_json(json, job);
    json.end_object();
  } else {
    print_outcome(job, options, plan, outcome);
    Options there = options;
    if (!options.into.empty()) there.common.look_in.push_back(folder_of(resolved(address).first));
    if (applied) tell_difference(job, before, health_of(job, there, now));
  }
  const bool all = applied && outcome.fixes.size() == all_together(plan).size();
  const int code = plan.notes.empty() && (plan.fixes.empty() || all) ? kDone : kDoneWithFindings;
  append_to_case(options.common.case_folder, job, {address.first},
                 {{options.into.empty() ? outcome.result.journal : options.into, ""}}, code);
  return code;
}

// What a plan is carried out with.
void add_shared(Options& options, const Command& command) {
  command.option("SRC", options.source, "a disk, or a volume of one");
  options.apply =
      command.option("--apply", options.fixes, "apply every certain fix, or those named: 1,3")
          .values(0, 1);
  command.option("--journal", options.journal,
                 "where to keep what is needed to take it back (default: SRC.undo here)");
  command.option("--into", options.into,
                 "apply the fixes in a new image on top of SRC, which stays as it is");
  command.flag("--drop-trial", options.drop_trial,
               "delete the trial images that --into made of SRC and that no longer fit");
  command.option("--override", options.overrides, "write although this check refuses it")
      .one_of({"suspended", "lock-file"});
}

}  // namespace

Run add_grow(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  options->grows = true;
  const Command command = parser.command(
      "grow", "a disk, the volume on it and its file system larger, as a plan; --apply writes it");
  options->common.add_to(command, job);
  options->common.add_keys_to(command);
  add_shared(*options, command);
  command.option("--to", options->to, "how large the disk becomes: 60G (K, M, G, T)");
  command.option("--by", options->by, "how much is added to it: 20G");
  command.option("--volume", options->volume,
                 "the number of the volume that takes the room (the likely one)");
  command.flag("--move-swap", options->move_swap,
               "move a swap volume right behind it to the end of the disk");
  command.footer(
      "Without --to and --by the disk stays, and the volume takes the room behind it.\n\n"
      "Examples: lantern grow station.qcow2 --to 60G\n"
      "          lantern grow station.qcow2 --to 60G --apply\n"
      "          lantern grow station.img --volume 2\n"
      "          lantern grow station.img::lv:skerrow/root --by 20G --key-file KEY");
  return [&job, options] { return repair(job, *options); };
}

Run add_repair(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command = parser.command(
      "repair", "what would put a disk right, as a plan; --apply writes it, with an undo journal");
  options->common.add_to(command, job);
  add_shared(*options, command);
  command.option("--plan", options->plan_file, "a plan kept from --json, instead of a new one");
  command.option("--set", options->set, "manual: STRUCTURE.FIELD=VALUE, checksums recalculated");
  command
      .option("--copy-from", options->copy_from,
              "take structures or fields over from a healthy disk of the same kind")
      .values(2, 64)
      .shown_as("HEALTHY FIELD...");
  command.option("--write", options->write, "manual: these bytes at this byte of SRC")
      .values(2, 2)
      .shown_as("OFFSET HEX");
  command.flag("--every-sector", options->every_sector,
               "look for lost volumes in every sector, not only where they usually are");
  command.footer(
      "Examples: lantern repair broken.img\n"
      "          lantern repair broken.img --apply\n"
      "          lantern repair broken.img --set mbr.entry1.active=yes --apply\n"
      "          lantern repair broken.img --copy-from healthy.img mbr.boot_code --apply");
  return [&job, options] { return repair(job, *options); };
}

}  // namespace lantern::cli
