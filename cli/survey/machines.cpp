#include "cli/survey/machines.h"

#include <fmt/format.h>

#include <filesystem>
#include <map>
#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/output.h"

namespace lantern::cli {
namespace {

constexpr std::size_t kMaxFilesShown = 40;

struct Options {
  CommonOptions common;
  std::string source;
  bool deleted = false;
  bool files = false;
};

void text_or_null(JsonWriter& json, const std::string& text) {
  text.empty() ? json.null() : json.value(text);
}

void chain_json(JsonWriter& json, const std::vector<ChainLink>& chain) {
  json.key("chain").begin_array();
  for (const ChainLink& link : chain) {
    json.begin_object().key("address").value(link.place).key("format").value(link.format);
    json.key("id").value(link.id).key("why").value(link.why).key("missing").value(link.missing);
    json.end_object();
  }
  json.end_array();
}

void disk_json(JsonWriter& json, const MachineDisk& disk) {
  json.begin_object().key("slot").value(disk.slot).key("written").value(disk.written);
  json.key("address");
  text_or_null(json, disk.address);
  json.key("why").value(disk.why).key("format").value(disk.format);
  json.key("size_bytes").value(disk.size_bytes);
  chain_json(json, disk.chain);
  json.key("candidate");
  text_or_null(json, disk.candidate);
  json.key("problem").value(disk.problem).end_object();
}

void intact_json(JsonWriter& json, const std::optional<double>& intact) {
  json.key("intact");
  intact ? json.value(*intact) : json.null();
}

// The command that brings a machine back; empty: it lies in a folder of this computer.
std::string restore_command(const Machine& machine, const std::string& destination,
                            const CommonOptions& common) {
  if (!machine.restore) return {};
  const MachineRestore& restore = *machine.restore;
  std::string text = "lantern extract " + for_shell(restore.address) + " " + for_shell(destination);
  if (restore.deleted) text += restore.active ? " --deleted --together" : " --deleted-only";
  for (const std::string& id : restore.ids) text += " --id " + for_shell("@" + id);
  for (const auto& [id, name] : restore.names)
    text += " --name " + for_shell("@" + id + "=" + name);
  if (restore.locks)
    text += " --without " + for_shell("*.lck") + " --without " + for_shell("*.lock");
  return text + common.as_typed();
}

// A destination of its own for each machine: two of a name do not meet.
std::string destination_of(const Machine& machine, std::map<std::string, int>& taken) {
  std::string name = "RESCUED-" + safe_file_name(machine.name);
  const int before = taken[name]++;
  return before == 0 ? name : fmt::format("{}-{}", name, before + 1);
}

void machine_json(JsonWriter& json, const Machine& machine, const std::string& restore) {
  json.begin_object().key("name").value(machine.name).key("address").value(machine.address);
  json.key("config").value(machine.config).key("kind").value(machine.kind);
  json.key("backup").value(machine.backup).key("found").value(to_string(machine.found));
  json.key("state").value(to_string(machine.state));
  json.key("state_evidence").value(machine.state_evidence);
  json.key("complete").value(machine.complete()).key("missing").begin_array();
  for (const std::string& missing : machine.missing) json.value(missing);
  json.end_array().key("disks").begin_array();
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
  json.end_array().key("files").begin_array();
  for (const MachineFile& file : machine.files) {
    json.begin_object().key("address").value(file.address).key("path").value(file.path);
    json.key("state").value(to_string(file.state)).key("size_bytes").value(file.size_bytes);
    intact_json(json, file.intact);
    json.key("needed").value(file.needed).key("stale_lock").value(file.stale_lock);
    json.key("written_as");
    text_or_null(json, file.written_as);
    json.end_object();
  }
  json.end_array().key("restore");
  text_or_null(json, restore);
  json.end_object();
}

void print_json(const Job& job, const MachinesFound& found, const CommonOptions& common) {
  JsonWriter json(job.streams.out);
  std::map<std::string, int> taken;
  json.begin_object().key("machines").begin_array();
  for (const Machine& machine : found.machines)
    machine_json(json, machine, restore_command(machine, destination_of(machine, taken), common));
  json.end_array().key("loose_disks").begin_array();
  for (const LooseDisk& disk : found.loose) {
    json.begin_object().key("address").value(disk.address).key("format").value(disk.format);
    json.key("state").value(to_string(disk.state));
    intact_json(json, disk.intact);
    json.key("size_bytes").value(disk.size_bytes);
    chain_json(json, disk.chain);
    json.key("snapshots").begin_array();
    for (const DiskVersion& snapshot : disk.snapshots)
      json.begin_object()
          .key("id")
          .value(snapshot.id)
          .key("name")
          .value(snapshot.name)
          .end_object();
    json.end_array().key("holds").begin_array();
    for (const std::string& line : disk.holds) json.value(line);
    json.end_array().key("problem").value(disk.problem).end_object();
  }
  json.end_array();
  findings_json(json, job);
  json.end_object();
}

constexpr std::size_t kIndent = 22;

void print_line(const Job& job, std::string_view what, Meaning meaning, const std::string& text) {
  job.streams.out << fmt::format("  {:<{}}", for_terminal(what), kIndent - 2)
                  << coloured(job.streams, meaning, fitted(job.streams, text, kIndent)) << '\n';
}

// A file by its path where its address has none.
std::string with_path(const Machine& machine, const std::string& address) {
  for (const MachineFile& file : machine.files)
    if (file.address == address && !address.ends_with(file.path))
      return for_terminal(address) + " (" + for_terminal(file.path) + ")";
  return for_terminal(address);
}

void print_chain(const Job& job, const Machine& machine, const std::vector<ChainLink>& chain) {
  for (const ChainLink& link : chain)
    print_line(job, "", link.missing ? Meaning::damaged : Meaning::plain,
               fmt::format("on {}{}", with_path(machine, link.place),
                           link.missing ? ", which is missing" : ""));
}

void print_disk(const Job& job, const Machine& machine, const MachineDisk& disk) {
  if (disk.address.empty()) {
    print_line(job, disk.slot, Meaning::damaged, for_terminal(disk.written) + " is not there");
    if (!disk.candidate.empty())
      print_line(job, "", Meaning::plain, for_terminal(disk.candidate) + " may be it");
    return;
  }
  const std::string place = with_path(machine, disk.address);
  print_line(job, disk.slot, Meaning::plain,
             fmt::format("{}  {}  {}", place, disk.format,
                         disk.size_bytes == 0 ? "" : size_text(disk.size_bytes, false)));
  if (!disk.problem.empty()) print_line(job, "", Meaning::damaged, for_terminal(disk.problem));
  const std::string last = disk.written.substr(disk.written.find_last_of("/\\") + 1);
  if (!place.ends_with(last) && !place.ends_with(last + ")"))
    print_line(job, "", Meaning::quiet,
               fmt::format("for {}: {}", for_terminal(disk.written), disk.why));
  print_chain(job, machine, disk.chain);
}

void print_files(const Job& job, const Machine& machine, bool all) {
  std::uint64_t bytes = 0;
  std::size_t deleted = 0, locks = 0;
  for (const MachineFile& file : machine.files) {
    bytes += file.size_bytes;
    deleted += file.state != EntryState::active ? 1 : 0;
    locks += file.stale_lock ? 1 : 0;
  }
  print_line(job, "files", Meaning::plain,
             fmt::format("{}, {}{}", counted(machine.files.size(), "file"), size_text(bytes, false),
                         deleted == 0 ? "" : fmt::format(", {} of them deleted", deleted)));
  if (locks > 0)
    print_line(job, "", Meaning::quiet,
               fmt::format("{} left by a machine that no longer runs: left out",
                           counted(locks, "lock file")));
  std::size_t shown = 0;
  for (const MachineFile& file : machine.files) {
    const bool damaged = file.needed && file.intact.value_or(1) < 1;
    if (!all && !damaged && file.written_as.empty()) continue;
    if (!all && ++shown > kMaxFilesShown) break;
    print_line(job, "", damaged ? Meaning::damaged : Meaning::plain,
               fmt::format(
                   "{:<8}{:>6}  {}{}", to_string(file.state),
                   file.state == EntryState::active ? "" : intact_text(file.intact),
                   for_terminal(file.path),
                   file.written_as.empty() ? "" : ", written as " + for_terminal(file.written_as)));
  }
}

void print_loose(const Job& job, const LooseDisk& disk) {
  std::string line = for_terminal(disk.address) + "  " + disk.format;
  if (disk.size_bytes > 0) line += "  " + size_text(disk.size_bytes, false);
  if (disk.state != EntryState::active)
    line += fmt::format("  {}, {} intact", to_string(disk.state), intact_text(disk.intact));
  job.streams.out << "  " << line << '\n';
  if (!disk.problem.empty()) print_line(job, "", Meaning::damaged, for_terminal(disk.problem));
  print_chain(job, {}, disk.chain);
  for (const DiskVersion& snapshot : disk.snapshots)
    print_line(job, "", Meaning::plain, "snapshot " + for_terminal(snapshot.name));
  for (const std::string& line_of_volume : disk.holds)
    print_line(job, "", Meaning::quiet, line_of_volume);
}

int list_machines(Job& job, const Options& options) {
  const Address address = options.common.address(options.source);
  const Session& session = options.common.session(job);
  const MachinesFound found = find_machines(address, {options.deleted, 2}, session);
  if (options.common.json) {
    print_json(job, found, options.common);
  } else {
    print_machines(job, found, options.common, options.files);
    if (!found.loose.empty()) job.streams.out << "Disk images that no machine names:\n";
    for (const LooseDisk& disk : found.loose) print_loose(job, disk);
    if (found.machines.empty() && found.loose.empty())
      job.streams.out << "No machine and no disk image was found here"
                      << (options.deleted ? "" : "; --deleted looks at deleted files too") << ".\n";
    print_findings(job, job.streams.err);
  }
  const int code = exit_for_findings(job);
  append_to_case(options.common.case_folder, job, {address.first}, {}, code);
  return code;
}

// A volume of an array or group, which is no file that comes with a machine's folder.
bool is_spanned(const std::string& address) {
  if (address.empty()) return false;
  const std::vector<Step> steps = Address::parse(address).steps;
  return !steps.empty() && (steps.back().kind == Step::Kind::logical_volume ||
                            steps.back().kind == Step::Kind::array);
}

}  // namespace

std::string host_path_of(const Address& address) {
  std::error_code error;
  const bool folder = address.steps.empty() && std::filesystem::is_directory(address.first, error);
  return folder ? address.first : std::string();
}

void print_machines(const Job& job, const MachinesFound& found, const CommonOptions& common,
                    bool files) {
  std::ostream& out = job.streams.out;
  std::map<std::string, int> taken;
  for (const Machine& machine : found.machines) {
    const bool off = machine.state == MachineState::off;
    out << coloured(job.streams, Meaning::heading, for_terminal(machine.name)) << "  "
        << coloured(job.streams, off ? Meaning::good : Meaning::damaged, to_string(machine.state));
    if (machine.found != EntryState::active)
      out << "  " << coloured(job.streams, Meaning::deleted, to_string(machine.found));
    out << "  " << with_path(machine, machine.config) << (machine.backup ? " (a backup copy)" : "")
        << '\n';
    if (!off) print_line(job, "", Meaning::plain, for_terminal(machine.state_evidence));
    for (const MachineDisk& disk : machine.disks) print_disk(job, machine, disk);
    for (const MachineSnapshot& snapshot : machine.snapshots)
      print_line(job, "snapshot", Meaning::plain,
                 fmt::format("{}{}", for_terminal(snapshot.name),
                             snapshot.taken.empty() ? "" : ", " + for_terminal(snapshot.taken)));
    if (!machine.files.empty()) print_files(job, machine, files);
    if (machine.complete())
      print_line(job, "complete", Meaning::good, "all it needs is there");
    else
      for (const std::string& missing : machine.missing)
        print_line(job, "not complete", Meaning::damaged, missing);
    if (machine.restore)
      print_line(job, "to restore", Meaning::plain,
                 restore_command(machine, destination_of(machine, taken), common));
    for (const MachineDisk& disk : machine.disks)
      if (is_spanned(disk.address))
        print_line(job, "and its disk", Meaning::plain,
                   "lantern image " + for_shell(disk.address) + " " +
                       for_shell(machine.name + "-" + disk.slot + ".raw") + common.as_typed());
    out << '\n';
  }
}

Run add_machines(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command = parser.command(
      "machines", "virtual machines on a disk or in a folder, and how they come back");
  options->common.add_to(command, job);
  options->common.add_keys_to(command);
  command.option("SRC", options->source, "a folder, a disk, a volume, or an address of one");
  command.flag("--deleted", options->deleted, "deleted machines and disk images too");
  command.flag("--files", options->files, "every file of each machine");
  command.footer("Example: lantern machines host.img --deleted");
  return [&job, options] { return list_machines(job, *options); };
}

}  // namespace lantern::cli
