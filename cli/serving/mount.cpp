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
};

int mount_source(Job& job, const Options& options) {
  const bool outright = !options.common.source.empty();
  if (options.arguments.size() != 2 && !(outright && options.arguments.size() == 1))
    throw Error(ErrorCode::usage, {}, std::nullopt, "a source and a folder are needed",
                "for example: lantern mount station.vdi /mnt/bench");
  const std::string folder = options.arguments.back();
  const Address address =
      options.common.address(options.arguments.size() == 2 ? options.arguments.front() : "");
  const Target target = options.common.session(job).open_disk(address);
  MountOptions wanted;
  wanted.local_to_utc = zone_of(options.zone);
  wanted.foreground = options.foreground;
  const int code = exit_for_findings(job);
  wanted.mounted = [&] {
    append_to_case(options.common.case_folder, job, {address.first}, {}, code);
    print_findings(job.streams, job.streams.err, job.context);
    job.streams.out << for_terminal(folder) << ": volumes/ deleted/ disks/ findings.txt\n"
                    << "take it away with: lantern unmount " << for_terminal(folder) << '\n';
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
  command.option("SRC DIR", options->arguments, "a disk or volume, and an empty folder")
      .values(1, 2);
  command.option("--timezone", options->zone,
                 "zone of the disk's local times: UTC, +02:00, Europe/Oslo");
  command.flag("--foreground", options->foreground, "stay until it is unmounted");
  command.footer("Example: mkdir BENCH; lantern mount station.vdi BENCH");
  return [&job, options] { return mount_source(job, *options); };
}

Run add_unmount(OptionParser& parser, Job& job) {
  auto folder = std::make_shared<std::string>();
  const Command command = parser.command("unmount", "takes a mount away; says who holds it");
  command.option("DIR", *folder, "where it is mounted").required();
  command.footer("Example: lantern unmount BENCH");
  return [&job, folder] {
    unmount_folder(*folder);
    job.streams.out << for_terminal(*folder) << ": unmounted\n";
    return int{kDone};
  };
}

}  // namespace lantern::cli
