#include <fmt/format.h>

#include <chrono>
#include <filesystem>
#include <memory>
#include <ostream>
#include <set>
#include <thread>

#include "cli/advice.h"
#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/disks/attach.h"
#include "cli/output.h"

namespace lantern::cli {
namespace {

struct Options {
  CommonOptions common;
  std::vector<std::string> arguments;
  std::string for_whom = "qemu";
  std::uint32_t machine_sectors = 512;
  bool keep_off = false;
  std::string check;
  bool fix = false;
  std::string release;
};

void write_descriptor(JsonWriter& json, const std::string& file, const std::string& disk,
                      const std::vector<std::uint64_t>& partitions, std::string_view state,
                      const std::string& why) {
  json.begin_object().key("file").value(file).key("disk").value(disk);
  json.key("partitions").begin_array();
  for (const std::uint64_t number : partitions) json.value(number);
  json.end_array();
  json.key("state").value(state).key("why").value(why).end_object();
}

std::vector<std::uint64_t> numbers_of(const DiskMap& map) {
  std::vector<std::uint64_t> numbers;
  for (const VolumeRow& row : map.partitions) numbers.push_back(row.number);
  return numbers;
}

// One map for each disk that is named.
std::vector<DiskMap> plan_all(Job& job, const Options& options) {
  const std::string& out = options.arguments.back();
  const Session& session = options.common.session(job);
  std::vector<MapRequest> requests;
  for (std::size_t i = 0; i + 1 < options.arguments.size(); ++i) {
    const Address address = Address::parse(options.arguments[i]);
    const auto of_disk = std::find_if(requests.begin(), requests.end(), [&](const auto& other) {
      return other.what.front().first == address.first;
    });
    if (of_disk != requests.end()) {
      of_disk->what.push_back(address);
      continue;
    }
    MapRequest& request = requests.emplace_back();
    request.what = {address};
    request.out = out;
    request.machine_sector_bytes = options.machine_sectors;
    if (opens_device_extents(options.for_whom)) request.kind = DescriptorKind::device_extents;
  }
  // In a folder each is named after its disk.
  std::error_code error;
  const bool into_folder = requests.size() > 1 || std::filesystem::is_directory(out, error);
  if (into_folder && !std::filesystem::is_directory(out, error))
    throw Error(ErrorCode::usage, out, std::nullopt, "is not a folder",
                "several disks are mapped into a folder: name one");
  for (MapRequest& request : requests)
    if (into_folder) {
      const std::string& first = request.what.front().first;
      const std::string name = first.substr(first.find_last_of(":/") + 1);
      request.out = out + "/" + safe_file_name(name) + ".vmdk";
    }
  std::vector<DiskMap> maps;
  maps.reserve(requests.size());
  for (const MapRequest& request : requests) maps.push_back(plan_map(request, session));
  return maps;
}

void print_map(const Job& job, const DiskMap& map, const Options& options) {
  std::ostream& out = job.streams.out;
  const std::string disk = "disk:" + map.disk.name;
  out << coloured(job.streams, Meaning::heading, for_terminal(map.file)) << '\n';
  std::string what = "points to " + for_terminal(disk) + ", ";
  if (!map.disk.facts.model.empty()) what += for_terminal(map.disk.facts.model) + ", ";
  what += size_text(map.disk.facts.size_bytes, false);
  if (!map.partitions.empty()) {
    what += ", partition";
    for (const VolumeRow& row : map.partitions)
      what += fmt::format("{} {}", &row == &map.partitions.front() ? "" : ",", row.number);
    what += " of it: all else is zeros, and what the machine writes there stays in private files";
  }
  out << "  " << wrapped(what, 2) << '\n';
  out << "  It holds no data and takes no space: without the disk it leads to nothing.\n";
  out << fmt::format("  The machine sees sectors of {} bytes.\n", map.machine_sector_bytes);
  for (const MapExtent& extent : map.extents)
    if (extent.kind == MapExtent::Kind::own_file)
      out << fmt::format("  private file {}: what is on the disk outside the partitions\n",
                         for_terminal(extent.file));
  if (!map.lasting_path)
    out << "  "
        << wrapped(
               fmt::format("The system keeps no lasting path to {}: after a new start, and when "
                           "disks were plugged in again, run {}",
                           for_terminal(map.disk.facts.device),
                           command_for({Do::check_maps,
                                        {std::filesystem::absolute(map.file).parent_path()}})),
               2)
        << '\n';
  std::set<std::string> devices;
  for (const MapExtent& extent : map.extents)
    if (extent.kind == MapExtent::Kind::device && devices.insert(extent.file).second)
      for (const std::string& line : access_to(extent.file))
        out << "  " << wrapped(for_terminal(line), 2) << '\n';
  out << "\nTo attach it with " << options.for_whom << " (--for names others):\n"
      << attach_lines(map, options.for_whom);
}

// Holds the disks until the machine, or whoever runs this, takes them.
int hold(Job& job, const std::vector<DiskMap>& maps) {
  constexpr std::chrono::milliseconds kBetween{500};
  std::ostream& out = job.streams.out;
  const Host& host = *job.opened->options().host;
  std::vector<std::unique_ptr<HeldDisk>> held;
  for (const DiskMap& map : maps) {
    const KeepOffRule rule = keep_off_rule(map.disk);
    out << "Rule for the device manager, written to " << for_terminal(rule.file) << ":\n"
        << rule.text << std::flush;
    write_rule(rule);
    if (!tell_device_manager(map.disk.facts.device))
      out << "No device manager runs here: the rule counts once one does.\n";
    held.push_back(std::make_unique<HeldDisk>(map.disk.facts.device));
  }
  out << "Held, and read-only while it is. Stop this (Ctrl-C) when the machine is to start.\n"
      << std::flush;
  std::optional<Holder> before;
  while (!job.context.cancel || !job.context.cancel->load()) {
    std::this_thread::sleep_for(kBetween);
    for (const auto& disk : held) {
      const auto holder = disk->taken_by(host);
      // Two looks: what only glances at it is no machine.
      if (holder && before && holder->process == before->process) {
        out << fmt::format("Taken by {} (process {}).\n", for_terminal(holder->name),
                           holder->process);
        return kDone;
      }
      if (holder) before = holder;
    }
  }
  out << "Let go. The rule stays until: "
      << command_for({Do::map, {"--release", "disk:" + maps.front().disk.name}}) << '\n';
  return kDone;
}

int map_disks(Job& job, const Options& options) {
  if (options.arguments.size() < 2)
    throw Error(ErrorCode::usage, {}, std::nullopt, "a disk and a file to write are needed",
                "for example: lantern map disk:SK-00961 station.vmdk");
  if (options.machine_sectors != 512 && !presents_sectors(options.for_whom))
    throw Error(ErrorCode::usage, {}, std::nullopt,
                options.for_whom + " presents sectors of 512 bytes alone",
                "use a hypervisor that can present others: qemu, libvirt");
  const std::vector<DiskMap> maps = plan_all(job, options);
  const Session& session = options.common.session(job);
  for (const DiskMap& map : maps) write_map(map, session);
  if (options.common.json) {
    JsonWriter json(job.streams.out);
    json.begin_object().key("descriptors").begin_array();
    for (const DiskMap& map : maps)
      write_descriptor(json, map.file, "disk:" + map.disk.name, numbers_of(map),
                       name_of(MapState::good), {});
    json.end_array();
    findings_json(json, job);
    json.end_object();
  } else {
    for (const DiskMap& map : maps) print_map(job, map, options);
    print_findings(job, job.streams.err);
  }
  const int code = exit_for_findings(job);
  for (const DiskMap& map : maps)
    append_to_case(options.common.case_folder, job, {"disk:" + map.disk.name}, {{map.file, {}}},
                   code);
  return options.keep_off ? hold(job, maps) : code;
}

int check(Job& job, const Options& options) {
  const Session& session = options.common.session(job);
  std::vector<CheckedMap> all = check_maps(options.check, session);
  std::size_t wrong = 0;
  for (CheckedMap& one : all) {
    const bool to_fix = options.fix && !one.cure.empty();
    if (to_fix) fix_map(one, session);
    if (one.state != MapState::good && !to_fix) ++wrong;
  }
  if (options.common.json) {
    JsonWriter json(job.streams.out);
    json.begin_object().key("descriptors").begin_array();
    for (const CheckedMap& one : all)
      write_descriptor(json, one.file, one.disk, one.partitions, name_of(one.state), one.why);
    json.end_array();
    findings_json(json, job);
    json.end_object();
  } else {
    for (const CheckedMap& one : all) {
      const bool good = one.state == MapState::good;
      job.streams.out << coloured(job.streams, good ? Meaning::good : Meaning::damaged,
                                  fmt::format("{:<11}", name_of(one.state)))
                      << for_terminal(one.file) << "  " << for_terminal(one.disk);
      for (const std::uint64_t number : one.partitions) job.streams.out << "::" << number;
      job.streams.out << '\n';
      if (!one.why.empty())
        job.streams.out << "           " << wrapped(for_terminal(one.why), 11) << '\n';
      if (!one.cure.empty())
        job.streams.out << "           " << (options.fix ? "" : "--fix: ") << one.cure << '\n';
    }
    if (all.empty()) job.streams.out << "No descriptor there points to a disk.\n";
    print_findings(job, job.streams.err);
  }
  return wrong > 0 ? kDoneWithFindings : exit_for_findings(job);
}

int release(Job& job, const Options& options) {
  const Host& host = *options.common.host(job);
  const std::string name =
      options.release.starts_with("disk:") ? options.release.substr(5) : options.release;
  const NamedDisk disk = find_disk(host, name, job.context);
  const KeepOffRule rule = keep_off_rule(disk);
  const bool was = remove_rule(rule);
  if (was) tell_device_manager(disk.facts.device);
  job.streams.out << (was ? "removed " : "there was no rule ") << for_terminal(rule.file) << '\n';
  for (const Holder& holder : host.holders(disk.facts.device))
    job.streams.out << fmt::format("{} is still open in {} (process {})\n",
                                   for_terminal(disk.facts.device), for_terminal(holder.name),
                                   holder.process);
  return kDone;
}

int run_map(Job& job, const Options& options) {
  if (!options.check.empty()) return check(job, options);
  if (!options.release.empty()) return release(job, options);
  if (options.fix)
    throw Error(ErrorCode::usage, {}, std::nullopt, "--fix belongs to --check",
                "lantern map --check DIR --fix");
  if (options.keep_off && !options.common.simulate.empty())
    throw Error(ErrorCode::usage, {}, std::nullopt, "a simulated disk has nothing to keep off",
                "leave --keep-off out");
  return map_disks(job, options);
}

}  // namespace

Run add_map(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command =
      parser.command("map", "a file by which a virtual machine uses a physical disk");
  options->common.add_to(command, job);
  command
      .option("SRC OUT", options->arguments,
              "disk:NAME, or partitions of it (disk:NAME::2), and the descriptor to write; several "
              "disks go into a folder")
      .values(1, 256);
  command.option("--for", options->for_whom, "the hypervisor that is to open it")
      .one_of(hypervisors());
  command
      .option("--machine-sectors", options->machine_sectors,
              "bytes of a sector as the machine sees it")
      .one_of({"512", "4096"});
  command.flag("--keep-off", options->keep_off,
               "keep this computer off the disk, and hold it until the machine takes it");
  command.option("--release", options->release, "take that rule away again for a disk");
  command.option("--check", options->check, "a folder: which descriptors still lead to their disk");
  command.flag("--fix", options->fix, "with --check: write them again, or set them aside");
  command.footer("Example: lantern map disk:SK-00961 station.vmdk");
  return [&job, options] { return run_map(job, *options); };
}

}  // namespace lantern::cli
