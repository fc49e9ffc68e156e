#include "cli/machines.h"

#include <fmt/format.h>

#include <filesystem>
#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/output.h"

namespace lantern::cli {
namespace {

struct Options {
  CommonOptions common;
  std::string folder;
};

void disk_json(JsonWriter& json, const MachineDisk& disk) {
  json.begin_object().key("slot").value(disk.slot).key("written").value(disk.written);
  json.key("place");
  disk.place.empty() ? json.null() : json.value(disk.place);
  json.key("why").value(disk.why).key("format").value(disk.format);
  json.key("disk_bytes").value(disk.disk_bytes).key("chain").begin_array();
  for (const ChainLink& link : disk.chain) {
    json.begin_object().key("place").value(link.place).key("format").value(link.format);
    json.key("id").value(link.id).key("why").value(link.why).key("missing").value(link.missing);
    json.end_object();
  }
  json.end_array().key("candidate");
  disk.candidate.empty() ? json.null() : json.value(disk.candidate);
  json.key("problem").value(disk.problem).end_object();
}

void print_json(const Job& job, const MachineFolder& folder) {
  JsonWriter json(job.streams.out);
  json.begin_object().key("machines").begin_array();
  for (const Machine& machine : folder.machines) {
    json.begin_object().key("name").value(machine.name).key("config").value(machine.config);
    json.key("kind").value(machine.kind).key("backup").value(machine.backup);
    json.key("state").value(to_string(machine.state));
    json.key("state_evidence").value(machine.state_evidence).key("disks").begin_array();
    for (const MachineDisk& disk : machine.disks) disk_json(json, disk);
    json.end_array().key("snapshots").begin_array();
    for (const MachineSnapshot& snapshot : machine.snapshots)
      json.begin_object()
          .key("id")
          .value(snapshot.id)
          .key("name")
          .value(snapshot.name)
          .key("taken")
          .value(snapshot.taken)
          .end_object();
    json.end_array().end_object();
  }
  json.end_array().key("loose").begin_array();
  for (const std::string& place : folder.loose) json.value(place);
  json.end_array();
  findings_json(json, job);
  json.end_object();
}

void print_disk(const Job& job, const MachineDisk& disk) {
  std::ostream& out = job.streams.out;
  if (disk.place.empty()) {
    out << fmt::format("  {:<16}", for_terminal(disk.slot))
        << coloured(job.streams, Meaning::damaged,
                    fmt::format("{} is not there", for_terminal(disk.written)))
        << '\n';
    if (!disk.candidate.empty())
      out << fmt::format("  {:<16}{} matches it\n", "", for_terminal(disk.candidate));
    return;
  }
  out << fmt::format("  {:<16}{}  {}  {}\n", for_terminal(disk.slot), for_terminal(disk.place),
                     disk.format, disk.problem.empty() ? size_text(disk.disk_bytes, false) : "");
  if (!disk.problem.empty())
    out << fmt::format("  {:<16}", "")
        << coloured(job.streams, Meaning::damaged, for_terminal(disk.problem)) << '\n';
  if (!disk.place.ends_with(disk.written))
    out << fmt::format("  {:<16}", "")
        << coloured(job.streams, Meaning::quiet,
                    fmt::format("for {}: {}", for_terminal(disk.written), disk.why))
        << '\n';
  for (const ChainLink& link : disk.chain)
    out << fmt::format("  {:<16}on {}{}\n", "", for_terminal(link.place),
                       link.missing ? ", which is missing" : "");
}

int list_machines(Job& job, const Options& options) {
  const Address address = options.common.address(options.folder);
  const Session& session = options.common.session(job);
  const auto folder = session.open_folder(address);
  if (!folder)
    throw Error(ErrorCode::usage, address.print(), std::nullopt, "is not a folder",
                "name the folder the machines are in");
  const MachineFolder found =
      find_machines(folder, host_path_of(address), *session.options().host, session);
  if (options.common.json) {
    print_json(job, found);
  } else {
    print_machines(job, found);
    if (!found.loose.empty()) job.streams.out << "Disks that no machine names:\n";
    for (const std::string& place : found.loose)
      job.streams.out << "  " << for_terminal(place) << '\n';
    if (found.machines.empty() && found.loose.empty())
      job.streams.out << "No machine and no disk was found here.\n";
    print_findings(job, job.streams.err);
  }
  const int code = exit_for_findings(job);
  append_to_case(options.common.case_folder, job, {address.first}, {}, code);
  return code;
}

}  // namespace

std::string host_path_of(const Address& address) {
  std::error_code error;
  const bool folder = address.steps.empty() && std::filesystem::is_directory(address.first, error);
  return folder ? address.first : std::string();
}

void print_machines(const Job& job, const MachineFolder& folder) {
  std::ostream& out = job.streams.out;
  for (const Machine& machine : folder.machines) {
    const bool off = machine.state == MachineState::off;
    out << coloured(job.streams, Meaning::heading, for_terminal(machine.name)) << "  "
        << coloured(job.streams, off ? Meaning::good : Meaning::damaged, to_string(machine.state))
        << "  " << for_terminal(machine.config) << (machine.backup ? " (a backup copy)" : "")
        << '\n';
    if (!off) out << "  " << for_terminal(machine.state_evidence) << '\n';
    for (const MachineDisk& disk : machine.disks) print_disk(job, disk);
    for (const MachineSnapshot& snapshot : machine.snapshots)
      out << fmt::format("  {:<16}{}{}\n", "snapshot", for_terminal(snapshot.name),
                         snapshot.taken.empty() ? "" : ", " + for_terminal(snapshot.taken));
    out << '\n';
  }
}

Run add_machines(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command =
      parser.command("machines", "machines in a folder, their disks, and whether they run");
  options->common.add_to(command, job);
  command.option("DIR", options->folder, "a folder, an archive, or an address of one").required();
  command.footer("Example: lantern machines /srv/machines");
  return [&job, options] { return list_machines(job, *options); };
}

}  // namespace lantern::cli
