#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/output.h"
#include "cli/zone.h"
#include "lantern/mount.h"

namespace lantern::cli {
namespace {

struct Options {
  CommonOptions common;
  std::vector<std::string> arguments;  // SRC DIR, or DIR with --source
  std::string zone;
  bool foreground = false;
  bool list = false;
};

int list_mounts(const Job& job, const Options& options) {
  const std::vector<MountedFolder> mounts = mounted_folders();
  if (options.common.json) {
    JsonWriter json(job.streams.out);
    json.begin_object().key("mounts").begin_array();
    for (const MountedFolder& one : mounts)
      json.begin_object()
          .key("folder")
          .value(one.folder)
          .key("source")
          .value(one.source)
          .end_object();
    json.end_array().end_object();
    return kDone;
  }
  for (const MountedFolder& one : mounts)
    job.streams.out << for_terminal(one.folder) << "  " << for_terminal(one.source) << '\n';
  if (mounts.empty()) job.streams.out << "Nothing is mounted by lantern.\n";
  return kDone;
}

int mount_source(Job& job, const Options& options) {
  if (options.list) return list_mounts(job, options);
  const bool outright = !options.common.source.empty();
  if (options.arguments.size() != 2 && !(outright && options.arguments.size() == 1))
    throw Error(ErrorCode::usage, {}, std::nullopt, "a source and a folder are needed",
                "for example: lantern mount station.vdi /mnt/bench");
  const std::string folder = options.arguments.back();
  const Address address =
      options.common.address(options.arguments.size() == 2 ? options.arguments.front() : "");
  const Session& session = options.common.session(job);
  Target target = session.open(address);
  // A folder is shown as itself; all else as its disk.
  if (!target.entry || target.entry->kind != EntryKind::folder) target = session.open_disk(address);
  MountOptions wanted;
  wanted.local_to_utc = zone_of(options.zone);
  wanted.foreground = options.foreground;
  const int code = exit_for_findings(job);
  wanted.mounted = [&] {
    append_to_case(options.common.case_folder, job, {address.first}, {}, code);
    print_findings(job, job.streams.err);
    job.streams.out << for_terminal(folder) << ": "
                    << (target.entry ? "folder/ deleted/" : "volumes/ deleted/ disks/")
                    << " findings.txt\nUnmount it with: lantern unmount " << for_shell(folder)
                    << '\n';
    job.streams.out.flush();
  };
  mount_disk(target, folder, wanted, job.context);
  // Asked to end, it has done what it was for.
  const auto& cancel = job.context.cancel;
  return cancel && *cancel ? int{kDone} : code;
}

}  // namespace

Run add_mount(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command =
      parser.command("mount", "a disk's files, read-only, as a folder of this computer");
  options->common.add_to(command, job);
  options->common.add_keys_to(command);
  command
      .option("SRC DIR", options->arguments,
              "a disk, a volume or a folder of one, and an empty folder")
      .values(0, 2);
  command.flag("--list", options->list, "what is mounted, and where");
  command.option("--timezone", options->zone,
                 "zone of the disk's local times: UTC, +02:00, Europe/Oslo");
  command.flag("--foreground", options->foreground, "stay until it is unmounted");
  command.footer("Example: mkdir BENCH; lantern mount station.vdi BENCH");
  return [&job, options] { return mount_source(job, *options); };
}

Run add_unmount(OptionParser& parser, Job& job) {
  auto folder = std::make_shared<std::string>();
  const Command command = parser.command("unmount", "unmount; says who holds the folder");
  command.option("DIR", *folder, "where it is mounted").required();
  command.footer("Example: lantern unmount BENCH");
  return [&job, folder] {
    unmount_folder(*folder);
    job.streams.out << for_terminal(*folder) << ": unmounted\n";
    return int{kDone};
  };
}

}  // namespace lantern::cli
