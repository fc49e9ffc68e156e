#include <fmt/format.h>

#include <algorithm>
#include <memory>
#include <ostream>
#include <set>

#include "cli/advice.h"
#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/output.h"
#include "cli/progress.h"
#include "cli/survey/machines.h"
#include "cli/survey/sets.h"

namespace lantern::cli {
namespace {

struct Options {
  CommonOptions common;
  std::vector<std::string> sources;
  bool exact = false;
  bool no_count = false;
};

// With the other sources that what it is done to belongs together with.
std::string next_command(const SurveyReport& report, const Action& action,
                         const CommonOptions& common) {
  std::set<std::string> others(common.with.begin(), common.with.end());
  const std::string own = Address::parse(action.arguments.front()).first;
  for (const SurveySet& set : report.sets) {
    const auto first_of = [](const SpanMember& one) {
      return one.address.empty() ? std::string() : Address::parse(one.address).first;
    };
    const auto is_own = [&](const SpanMember& one) { return first_of(one) == own; };
    if (std::none_of(set.members.begin(), set.members.end(), is_own)) continue;
    for (const SpanMember& member : set.members) others.insert(first_of(member));
    others.erase("");
    // What is missing may be among the sources, and not be known for it.
    if (action.what == Do::plan && set.state != SetState::complete)
      for (const SurveySource& source : report.sources)
        others.insert(Address::parse(source.address).first);
  }
  others.erase(own);
  std::string text = command_for(action);
  for (const std::string& other : others) text += " --with " + for_shell(other);
  if (!common.simulate.empty()) text += " --simulate " + for_shell(common.simulate);
  return text;
}

void print_json(const Job& job, const SurveyReport& report, const CommonOptions& common) {
  JsonWriter json(job.streams.out);
  json.begin_object();
  write_json(json, report);
  findings_json(json, job);
  json.key("next").begin_array();
  for (const Action& action : report.next) json.value(next_command(report, action, common));
  json.end_array().end_object();
}

void print_disks(const Job& job, const SurveyReport& report, bool exact) {
  std::ostream& out = job.streams.out;
  for (const SurveyLayer& layer : report.layers) {
    // Those in arrays and groups stand in their tree.
    if (is_in_a_set(report, layer.address)) continue;
    if (layer.kind == "source") {
      out << coloured(job.streams, Meaning::heading, for_terminal(layer.address)) << "  "
          << size_text(layer.size_bytes, exact) << '\n';
    } else if (layer.kind == "disk" || layer.kind == "table") {
      out << fmt::format("  {:<8}{:<6}{}", layer.kind, layer.format, layer.detail) << '\n';
    } else if (layer.kind == "parent" || layer.kind == "snapshot") {
      out << fmt::format("  {:<8}{:<6}{}  ", layer.kind, layer.format, for_terminal(layer.address))
          << coloured(job.streams, Meaning::quiet, for_terminal(layer.detail)) << '\n';
    }
  }
}

std::string content_text(const SurveyVolume& volume) {
  return volume.content.empty() ? "unknown" : volume.content;
}

std::string label_of(const VolumeLayer& volume) {
  if (volume.file_system()) return for_terminal(volume.file_system()->facts().label);
  return volume.owner() ? for_terminal(volume.owner()->label) : std::string();
}

void print_volumes(const Job& job, const SurveyReport& report, bool exact) {
  std::ostream& out = job.streams.out;
  std::size_t width = 11;  // of "unallocated"
  std::size_t content_width = 11;
  for (const SurveyVolume& volume : report.volumes) {
    if (!volume.member_of.empty()) continue;
    width = std::max(width, for_terminal(volume.layer->address.print()).size());
    content_width = std::max(content_width, content_text(volume).size());
  }
  out << '\n'
      << coloured(
             job.streams, Meaning::quiet,
             fmt::format("  {:<{}}  {:>11}  {:<{}}  {:<11}  {:>10}  {:>6}  {:>7}", "VOLUME", width,
                         "SIZE", "FILE SYSTEM", content_width, "LABEL", "USED", "FILES", "DELETED"))
      << '\n';
  for (const SurveyVolume& volume : report.volumes) {
    // Members stand in the tree of what they belong to.
    if (!volume.member_of.empty()) continue;
    const std::string address = for_terminal(volume.layer->address.print());
    const bool counted = volume.layer->file_system() != nullptr &&
                         (volume.counted_all || volume.files + volume.folders > 0);
    const std::string line = fmt::format(
        "{} {:<{}}  {:>11}  {:<{}}  {:<11}  {:>10}  {:>6}  ", volume.likely_user_files ? "*" : " ",
        address, width, size_text(volume.layer->row.range.length, exact), content_text(volume),
        content_width, label_of(*volume.layer), counted ? size_text(volume.used_bytes, exact) : "",
        counted ? fmt::format("{}{}", volume.files, volume.counted_all ? "" : "+") : "");
    const std::string deleted = counted ? fmt::format("{:>7}", volume.deleted) : "";
    out << (volume.likely_user_files ? coloured(job.streams, Meaning::heading, line) : line)
        << (volume.deleted > 0 ? coloured(job.streams, Meaning::deleted, deleted) : deleted)
        << (volume.listed ? "" : coloured(job.streams, Meaning::deleted, "  not in the table"))
        << (volume.removed ? coloured(job.streams, Meaning::deleted, "  removed") : "")
        << (volume.machine.empty() ? "" : "  machine " + for_terminal(volume.machine)) << '\n';
  }
  for (const SurveySpace& space : report.spaces)
    out << coloured(job.streams, Meaning::quiet,
                    fmt::format("  {:<{}}  {:>11}  {}, from byte {}{}", "unallocated", width,
                                size_text(space.range.length, exact),
                                space.has_data ? "with data" : "zeros where it was looked at",
                                space.range.offset,
                                report.sources.size() > 1 ? " of " + for_terminal(space.address)
                                                          : std::string()))
        << '\n';
}

Meaning meaning_of(LinkState state) {
  switch (state) {
    case LinkState::good:
      return Meaning::good;
    case LinkState::broken:
      return Meaning::damaged;
    case LinkState::doubtful:
      return Meaning::deleted;
    case LinkState::unchecked:
      break;
  }
  return Meaning::quiet;
}

void print_starts(const Job& job, const SurveyReport& report, bool looked) {
  std::ostream& out = job.streams.out;
  const bool unread = std::any_of(report.volumes.begin(), report.volumes.end(),
                                  [](const SurveyVolume& volume) { return volume.may_hold_files; });
  if (looked && report.starts.empty())
    out << (unread ? "No loader was found; there may be one in what cannot be read.\n\n"
                   : "No loader was found: a machine does not start from this.\n\n");
  for (const SurveyStart& start : report.starts) {
    out << fmt::format(
               "A machine with {} firmware {}{}:", to_string(start.chain.firmware),
               to_string(start.chain.verdict()),
               report.sources.size() > 1 ? " from " + for_terminal(start.address) : std::string())
        << '\n';
    std::size_t width = 0;
    for (const StartLink& link : start.chain.links) width = std::max(width, link.name.size());
    for (const StartLink& link : start.chain.links) {
      out << "  "
          << coloured(job.streams, meaning_of(link.state),
                      fmt::format("{:<9}", to_string(link.state)))
          << fmt::format("  {:<{}}  ", link.name, width) << for_terminal(link.what) << '\n';
      if (link.state != LinkState::good && !link.cure.empty())
        out << fmt::format("  {:<9}  {:<{}}  ", "", "", width) << for_terminal(link.cure) << '\n';
    }
    out << '\n';
  }
}

void print_whose_files(const Job& job, const SurveyReport& report) {
  std::ostream& out = job.streams.out;
  if (!report.chosen.empty()) {
    out << "The user's files are most likely on " << for_terminal(report.chosen) << ":\n  "
        << fitted(job.streams, for_terminal(report.why), 2) << "\n\n";
    return;
  }
  if (report.may_be.empty()) return;
  out << "The user's files may be on any of these:\n  "
      << fitted(job.streams, for_terminal(report.may_be.front() + ": " + report.why), 4) << '\n';
  for (std::size_t i = 1; i < report.may_be.size(); ++i)
    out << "  " << for_terminal(report.may_be[i]) << ": larger, and cannot be read\n";
  out << '\n';
}

// Volumes without room, and what fills them.
void print_full(const Job& job, const SurveyReport& report) {
  for (const SurveyFull& full : report.full) {
    std::string text = fmt::format("{} is full: {} of {} are free.", full.address,
                                   human_size(full.free_bytes), human_size(full.size_bytes));
    if (full.holds_system) text += " A system that has no room left often does not start.";
    for (std::size_t i = 0; i < full.largest.size(); ++i)
      text += fmt::format("{}{} {}", i == 0 ? " Most is in " : ", ", full.largest[i].path,
                          human_size(full.largest[i].size_bytes));
    job.streams.out << fitted(job.streams, for_terminal(text), 0) << '\n';
    constexpr std::uint64_t kGiB = 1u << 30;
    if (full.can_grow)
      job.streams.out << fmt::format("Make it larger with:  lantern grow {} --by {}G\n",
                                     for_shell(full.address), full.size_bytes / 2 / kGiB + 1);
  }
}

// Findings, after what they mean for the files; or that there are none.
void print_health(const Job& job, const SurveyReport& report) {
  std::ostream& out = job.streams.out;
  const bool any = !job.context.findings->all().empty();
  const bool any_files = std::any_of(
      report.volumes.begin(), report.volumes.end(),
      [](const SurveyVolume& volume) { return volume.layer->file_system() != nullptr; });
  if (!any_files) out << "No file system that can be read was found.\n";
  if (any_files && !report.files_state.empty())
    out << fitted(job.streams, for_terminal(report.files_state), 0) << "\n";
  print_full(job, report);
  if (any) print_findings(job, out);
  if (!report.checked.empty())
    out << coloured(job.streams, Meaning::good,
                    for_terminal("No problems found in " + report.checked + "."))
        << '\n';
  for (const std::string& one : report.not_checked)
    out << "Not checked: " << for_terminal(one) << '\n';
  if (report.fixes > 0)
    out << fmt::format("Repair has {} {} for it, {} certain.\n", report.fixes,
                       report.fixes == 1 ? "fix" : "fixes", report.certain_fixes);
}

// A folder's machines come before its disks.
void print_machines_of(Job& job, const std::vector<Address>& addresses, const Session& session,
                       const Options& options) {
  if (options.common.json) return;
  for (const Address& address : addresses) {
    if (!address.steps.empty()) continue;
    if (const auto folder = session.open_folder(address))
      print_machines(job,
                     find_machines(folder, host_path_of(address), *session.options().host, session),
                     options.common, false);
  }
}

void print_machine_files(const Job& job, const SurveyReport& report) {
  for (const SurveyVolume& volume : report.volumes) {
    if (volume.machine_configs + volume.disk_images == 0) continue;
    const std::string deleted =
        volume.deleted_of_machines == 0
            ? std::string()
            : fmt::format(" ({} of them deleted)", volume.deleted_of_machines);
    job.streams.out << fitted(job.streams,
                              fmt::format("Virtual machines on {}: {} and {}{}.",
                                          for_terminal(volume.layer->address.print()),
                                          counted(volume.machine_configs, "configuration"),
                                          counted(volume.disk_images, "disk image"), deleted),
                              2)
                    << "\n\n";
  }
}

void print_sweeps(const Job& job, const SurveyReport& report) {
  for (const SurveySweep& sweep : report.sweeps) {
    const std::string took =
        sweep.seconds ? fmt::format(", about {}", duration_text(*sweep.seconds + 1)) : "";
    job.streams.out << fitted(job.streams,
                              fmt::format("Sweep{}: reads {}{}; {}: {}",
                                          report.sweeps.size() > 1
                                              ? " of " + for_terminal(sweep.address)
                                              : std::string(),
                                          human_size(sweep.bytes), took,
                                          sweep.worth ? "worth it" : "not needed now",
                                          for_terminal(sweep.why)),
                              2)
                    << '\n';
  }
}

int survey_sources(Job& job, const Options& options) {
  std::vector<Address> addresses;
  if (!options.common.source.empty() && options.sources.empty())
    addresses.push_back(options.common.address(""));
  for (const std::string& source : options.sources)
    addresses.push_back(options.common.address(source));
  CommonOptions together = options.common;
  if (addresses.size() > 1)
    for (const Address& address : addresses) together.with.push_back(address.print());
  const Session& session = together.session(job);
  print_machines_of(job, addresses, session, options);
  const SurveyReport report = survey(addresses, session, {!options.no_count, true});
  const int code = exit_for_findings(job);
  std::vector<std::string> paths;
  paths.reserve(addresses.size());
  for (const Address& address : addresses) paths.push_back(address.first);
  append_to_case(options.common.case_folder, job, paths, {}, code);
  if (options.common.json) {
    print_json(job, report, options.common);
    return code;
  }
  std::ostream& out = job.streams.out;
  print_disks(job, report, options.exact);
  print_sets(job, report);
  print_volumes(job, report, options.exact);
  out << '\n';
  print_whose_files(job, report);
  print_machine_files(job, report);
  for (const SurveyVolume& volume : report.volumes)
    for (const std::string& format : volume.layer->alternatives())
      out << for_terminal(fmt::format(
                 "{} also has structures of {}: {} reads it as that", volume.layer->address.print(),
                 format, volume.layer->address.with({Step::Kind::as, 0, format, {}}).print()))
          << "\n";
  for (const SurveyVolume& volume : report.volumes)
    if (!volume.layer->required_key().empty())
      out << for_terminal(volume.layer->address.print()) << " is encrypted by "
          << for_terminal(volume.layer->owner()->title) << ". It needs "
          << for_terminal(volume.layer->required_key())
          << (volume.layer->owner()->format.starts_with("luks")
                  ? ": --key-file FILE or --ask-key gives it"
                  : "")
          << ".\n  Leave it as it is, and keep all of it: its key is of no use without its "
             "header.\n";
  print_starts(job, report, !options.no_count);
  print_health(job, report);
  print_sweeps(job, report);
  if (!report.next.empty()) out << "\nNext:\n";
  for (const Action& action : report.next)
    out << "  " << for_terminal(next_command(report, action, options.common)) << '\n';
  return code;
}

}  // namespace

Run add_survey(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command =
      parser.command("survey", "what is this: layers, health, volumes, next step");
  options->common.add_to(command, job);
  options->common.add_keys_to(command);
  command.option("SRC", options->sources, "image files, block devices or addresses");
  command.flag("--exact", options->exact, "sizes in bytes");
  command.flag("--no-count", options->no_count,
               "read the heads of the volumes only: no files are counted or looked at");
  command.footer("Example: lantern survey station.vdi");
  return [&job, options] {
    if (options->sources.empty() && options->common.source.empty())
      throw Error(ErrorCode::usage, {}, std::nullopt, "no source is named",
                  "for example: lantern survey station.vdi");
    return survey_sources(job, *options);
  };
}

}  // namespace lantern::cli
