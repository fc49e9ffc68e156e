#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <memory>
#include <ostream>
#include <set>
#include <thread>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/output.h"
#include "cli/progress.h"
#include "lantern/lantern.h"

namespace lantern::cli {
namespace {

struct Options {
  CommonOptions common;
  std::string name;
  bool exact = false;
  bool watch = false;
  bool check = false;
  std::string picture;
};

std::string joined(const std::vector<HostUse>& uses) {
  std::string text;
  for (const HostUse& use : uses) text += (text.empty() ? "" : "; ") + use.words;
  return text;
}

std::string heading(const InventoryDisk& disk, bool exact) {
  const HostDisk& facts = disk.disk.facts;
  std::string text = "  " + size_text(facts.size_bytes, exact);
  if (!facts.bus.empty()) text += ", " + facts.bus;
  if (!facts.model.empty()) text += ", " + for_terminal(facts.model);
  return text;
}

std::string facts_of(const InventoryDisk& disk) {
  const HostDisk& facts = disk.disk.facts;
  std::string text;
  const auto add = [&](const std::string& more) { text += (text.empty() ? "" : ", ") + more; };
  if (!facts.serial.empty() && facts.serial != disk.disk.name)
    add("serial number " + for_terminal(facts.serial));
  if (!facts.wwn.empty() && facts.wwn != disk.disk.name) add("WWN " + for_terminal(facts.wwn));
  if (!facts.port.empty()) add("plugged in at " + for_terminal(facts.port));
  if (!facts.device.empty()) add("now " + for_terminal(facts.device));
  add(fmt::format("sectors of {} bytes", facts.sector_bytes));
  if (facts.physical_sector_bytes != facts.sector_bytes)
    add(fmt::format("{} inside", facts.physical_sector_bytes));
  if (facts.rotations_per_minute)
    add(fmt::format("{} rotations a minute", *facts.rotations_per_minute));
  else if (facts.rotates)
    add(*facts.rotates ? "rotates" : "does not rotate");
  if (facts.removable) add("removable");
  if (facts.read_only) add("read-only");
  if (facts.temperature_celsius) add(fmt::format("{} degrees Celsius", *facts.temperature_celsius));
  return text;
}

void print_disk(const Job& job, const InventoryDisk& disk, bool exact) {
  const Streams& streams = job.streams;
  std::ostream& out = streams.out;
  const HostDisk& facts = disk.disk.facts;
  out << coloured(streams, Meaning::heading, for_terminal(disk.address)) << heading(disk, exact)
      << '\n';
  out << "  " << coloured(streams, Meaning::quiet, wrapped(facts_of(disk), 2)) << '\n';
  if (disk.disk.name != facts.serial)
    out << "  "
        << coloured(streams, Meaning::quiet,
                    wrapped("named by " + for_terminal(disk.disk.named_by), 2))
        << '\n';
  const auto warn = [&](const std::string& text) {
    out << "  " << coloured(streams, Meaning::damaged, wrapped(for_terminal(text), 2)) << '\n';
  };
  if (facts.computers_own) warn("This computer runs from it: leave it alone.");
  if (!facts.uses.empty()) warn("in use: " + joined(facts.uses));
  if (!facts.health.empty()) warn("health: " + facts.health);
  if (!disk.hidden.empty()) warn(disk.hidden);
  if (!disk.unread.empty()) warn("not looked at: " + disk.unread);
  for (const InventoryPart& part : disk.parts) {
    const std::string content = part.content.empty() ? "unknown" : part.content;
    out << fmt::format("  {:>4}  {:>10}  {}", part.number, size_text(part.range.length, exact),
                       for_terminal(content));
    if (!part.label.empty()) out << " \"" << for_terminal(part.label) << '"';
    if (!part.uses.empty())
      out << "  " << coloured(streams, Meaning::damaged, for_terminal(joined(part.uses)));
    out << '\n';
  }
  if (disk.parts.empty() && disk.unread.empty()) out << "  nothing known begins on it\n";
  out << '\n';
}

NamedDisk named(const Options& options, const Host& host, const Context& context) {
  const std::string& name = options.name;
  return find_disk(host, name.starts_with("disk:") ? name.substr(5) : name, context);
}

int list_disks(Job& job, const Options& options) {
  const Session& session = options.common.session(job);
  std::vector<InventoryDisk> disks;
  if (options.name.empty()) {
    disks = take_inventory(session);
  } else {
    disks.push_back(look_at_disk(session, named(options, *session.options().host, job.context)));
  }
  if (options.common.json) {
    JsonWriter json(job.streams.out);
    json.begin_object().key("disks").begin_array();
    for (const InventoryDisk& disk : disks) write_json(json, disk);
    json.end_array();
    findings_json(json, job);
    json.end_object();
  } else {
    for (const InventoryDisk& disk : disks) print_disk(job, disk, options.exact);
    if (disks.empty()) job.streams.out << "This computer names no disks.\n";
  }
  append_to_case(options.common.case_folder, job, {}, {}, kDone);
  return kDone;
}

// Says which disks come and go until it is stopped.
int watch_disks(Job& job, const Options& options) {
  constexpr std::chrono::milliseconds kBetween{500};
  const std::shared_ptr<const Host> host = options.common.session(job).options().host;
  std::set<std::string> known;
  std::string before;  // the disks without their names: some are read for those
  bool first = true;
  while (!job.context.cancel || !job.context.cancel->load()) {
    if (!first) std::this_thread::sleep_for(kBetween);
    std::string there;
    for (const HostDisk& disk : host->disks())
      there += fmt::format("{} {} {}\n", disk.device, disk.serial, disk.size_bytes);
    if (!first && there == before) continue;
    before = std::move(there);
    std::set<std::string> now;
    for (const NamedDisk& disk : name_disks(*host, job.context)) {
      now.insert(disk.name);
      if (known.contains(disk.name)) continue;
      job.streams.out << (first ? "there   " : "came    ") << "disk:" << for_terminal(disk.name)
                      << "  " << size_text(disk.facts.size_bytes, options.exact) << "  "
                      << for_terminal(disk.facts.model) << std::endl;
    }
    for (const std::string& name : known)
      if (!now.contains(name))
        job.streams.out << "went    disk:" << for_terminal(name) << std::endl;
    known = std::move(now);
    first = false;
  }
  return kDone;
}

// All of a disk is read, and nothing written.
int check_disk(Job& job, const Options& options) {
  if (options.name.empty())
    throw Error(ErrorCode::usage, {}, std::nullopt, "which disk is to be checked?",
                "for example: lantern disks --check disk:SK-00961");
  const Host& host = *options.common.host(job);
  const NamedDisk disk = named(options, host, job.context);
  const auto line = std::make_shared<ProgressLine>(job.streams.err);
  if (job.streams.err_is_terminal) job.context.progress = line;
  const SurfaceReport report =
      check_surface(host.open_disk(disk.facts, job.context), {}, job.context);
  line->clear();
  const std::string address = "disk:" + disk.name;
  const DiskPicture picture = picture_of_surface(address, report);
  double least = 0, most = 0;
  for (const SurfacePlace& place : report.places) {
    const double rate = SurfaceReport::rate(place);
    if (rate > 0 && (least == 0 || rate < least)) least = rate;
    most = std::max(most, rate);
  }
  std::uint64_t lost = 0;
  for (const Range& range : report.unreadable) lost += range.length;
  std::ostream& out = job.streams.out;
  if (options.common.json) {
    JsonWriter json(out);
    json.begin_object().key("disk").value(address).key("disk_bytes").value(report.disk_bytes);
    json.key("reads").value(report.reads).key("unreadable").begin_array();
    for (const Range& range : report.unreadable)
      json.begin_array().value(range.offset).value(range.length).end_array();
    json.end_array().key("places").begin_array();
    for (const SurfacePlace& place : report.places) {
      json.begin_object().key("offset_bytes").value(place.range.offset);
      json.key("length_bytes").value(place.range.length);
      json.key("unreadable_bytes").value(place.unreadable_bytes);
      json.key("bytes_per_second").value(static_cast<std::uint64_t>(SurfaceReport::rate(place)));
      json.key("slowest_read_seconds").value(place.slowest_seconds).end_object();
    }
    json.end_array().key("stopped").value(report.stopped);
    findings_json(json, job);
    json.end_object();
  } else {
    out << coloured(job.streams, Meaning::heading, for_terminal(address)) << "  "
        << size_text(report.disk_bytes, options.exact) << '\n'
        << as_text(picture, 64);
    out << fmt::format("  rate {}/s to {}/s by place\n",
                       size_text(static_cast<std::uint64_t>(least), options.exact),
                       size_text(static_cast<std::uint64_t>(most), options.exact));
    if (report.unreadable.empty())
      out << (report.stopped ? "  nothing unreadable so far\n" : "  all of it can be read\n");
    else
      out << coloured(job.streams, Meaning::damaged,
                      fmt::format("  reads failed in {}: up to {} cannot be read",
                                  counted(report.unreadable.size(), "place"),
                                  size_text(lost, options.exact)))
          << fmt::format("; copy it with lantern image {} OUT --failing\n", for_shell(address));
  }
  if (!options.picture.empty()) draw(picture, options.picture);
  if (report.stopped) job.streams.err << "lantern: " << for_terminal(report.why_stopped) << '\n';
  const int code = report.stopped              ? kStopped
                   : report.unreadable.empty() ? kDone
                                               : kDoneWithFindings;
  append_to_case(options.common.case_folder, job, {address}, {}, code);
  return code;
}

}  // namespace

Run add_disks(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command = parser.command("disks", "the disks of this computer, by names that last");
  options->common.add_to(command, job);
  command.option("NAME", options->name, "only this one: a name, or part of a model or serial");
  command.flag("--exact", options->exact, "sizes in bytes");
  command.flag("--watch", options->watch, "say which disks come and go, until it is stopped");
  command.flag("--check", options->check, "read all of the disk NAME, and say how each place came");
  command.option("--picture", options->picture, "with --check: draw that to a file, .png or .svg");
  command.footer("Example: lantern disks");
  return [&job, options] {
    if (options->watch && options->common.json)
      throw Error(ErrorCode::usage, {}, std::nullopt, "--watch writes no JSON",
                  "leave one of the two out");
    if (options->check) return check_disk(job, *options);
    return options->watch ? watch_disks(job, *options) : list_disks(job, *options);
  };
}

}  // namespace lantern::cli
