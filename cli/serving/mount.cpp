#include <fmt/ranges.h>

#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/output.h"
#include "cli/serving/writes.h"
#include "cli/zone.h"
#include "lantern/mount.h"

namespace lantern::cli {
namespace {

struct Options {
  CommonOptions common;
  WritingOptions writing;
  std::vector<std::string> arguments;  // SRC DIR, or DIR with --source
  std::string zone;
  bool foreground = false;
  bool list = false;
};

std::string in_words(const MountedFolder& one) {
  return writes_text(one.writes, one.journal) +
         (one.is_served
              ? ""
              : "  its process is gone: lantern unmount " + for_shell(one.folder) + " clears it");
}

int list_mounts(const Job& job, const Options& options) {
  const std::vector<MountedFolder> mounts = mounted_folders();
  if (options.common.json) {
    JsonWriter json(job.streams.out);
    json.begin_object().key("mounts").begin_array();
    for (const MountedFolder& one : mounts) {
      json.begin_object().key("folder").value(one.folder);
      writes_json(json, one.source, one.writes, one.journal, one.is_served);
      json.end_object();
    }
    json.end_array().end_object();
    return kDone;
  }
  for (const MountedFolder& one : mounts)
    job.streams.out << for_terminal(one.folder) << "  " << for_terminal(one.source) << in_words(one)
                    << '\n';
  if (mounts.empty()) job.streams.out << "Nothing is mounted by lantern.\n";
  return kDone;
}

// What can be done now with the raw files, and how it ends.
std::string writing_words(const WriteOptions& writes, const std::string& folder) {
  const std::string file = for_shell(writes.file);
  if (writes.how == Writes::overlay)
    return "Changes go to " + file + "; the disk stays as it is. Read it with --overlay " + file +
           ", keep it with lantern image.\nUnmount it with: lantern unmount " + for_shell(folder);
  return "Changes go to the disk itself, and are noted in " + file +
         ".\nUnmount it with: lantern unmount " + for_shell(folder) +
         "\nTake them back after that with: lantern undo " + file;
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
  MountOptions wanted;
  wanted.writes = options.writing.writes(job, address);
  const Session& session = options.common.session(job);
  options.writing.add_host(wanted.writes, options.common.host(job));
  Target target = session.open(address);
  // A folder is shown as itself; all else as its disk.
  if (!target.entry || target.entry->kind != EntryKind::folder) target = session.open_disk(address);
  if (target.entry && target.entry->kind == EntryKind::folder && options.writing.writable)
    throw Error(ErrorCode::usage, address.print(), std::nullopt,
                "a folder has no bytes of its own to write to", "name its disk or volume");
  wanted.local_to_utc = zone_of(options.zone);
  wanted.foreground = options.foreground;
  const int code = exit_for_findings(job);
  wanted.mounted = [&](const std::vector<std::string>& shown) {
    append_to_case(options.common.case_folder, job, {address.first}, {}, code);
    print_findings(job, job.streams.err);
    const bool writes = wanted.writes.how != Writes::none;
    job.streams.out << fmt::format("{}: {}\n", for_terminal(folder), fmt::join(shown, " "))
                    << (writes ? writing_words(wanted.writes, folder)
                               : "Unmount it with: lantern unmount " + for_shell(folder))
                    << '\n';
    job.streams.out.flush();
  };
  mount_disk(target, folder, wanted, session);
  // Asked to end, it has done what it was for.
  const auto& cancel = job.context.cancel;
  return cancel && *cancel ? int{kDone} : code;
}

}  // namespace

Run add_mount(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command =
      parser.command("mount", "a disk's files as a folder of this computer; its bytes, writable");
  options->common.add_to(command, job);
  options->writing.add_to(command);
  options->common.add_keys_to(command);
  command
      .option("SRC DIR", options->arguments,
              "a disk, a volume or a folder of one, and an empty folder")
      .values(0, 2);
  command.flag("--list", options->list, "what is mounted, and where");
  command.option("--timezone", options->zone,
                 "zone of the disk's local times: UTC, +02:00, Europe/Oslo");
  command.flag("--foreground", options->foreground, "stay until it is unmounted");
  command.footer(
      "Examples: mkdir BENCH; lantern mount station.vdi BENCH\n"
      "          lantern mount station.vdi BENCH --writable --overlay station.changes");
  return [&job, options] { return mount_source(job, *options); };
}

namespace {

// Whether the disk can go back: what its file systems say of themselves, read anew.
void check_again(const Job& job, const MountedFolder& what) {
  Context context;
  context.cancel = job.context.cancel;
  if (what.writes == "overlay")
    context.scratch = Scratch::in_file(what.journal, context.clock->now_seconds());
  const Session session({}, context);
  std::ostream& out = job.streams.out;
  const Target target = session.open_disk(Address::parse(what.source));
  for (const VolumeLayer& volume : target.disk().volumes) {
    if (target.volume && target.volume.get() != &volume) continue;
    if (!volume.file_system()) continue;
    out << for_terminal(volume.address.print()) << ": " << volume.file_system()->facts().type;
    std::size_t wrong = 0;
    for (const Finding& finding : volume.findings->all())
      wrong += finding.severity == Severity::note ? 0u : 1u;
    out << (wrong == 0 ? std::string(", nothing wrong was found")
                       : ", " + counted(wrong, "finding") + ": lantern survey shows them")
        << '\n';
  }
}

int unmount(const Job& job, const std::string& folder, bool force) {
  const Unmounted done = unmount_folder(folder, force);
  std::ostream& out = job.streams.out;
  for (const std::string& one : done.detached) out << for_terminal(one) << '\n';
  out << for_terminal(folder) << ": unmounted\n";
  const MountedFolder& what = done.what;
  if (!done.failed.empty()) {
    job.streams.err << "lantern: what was written is not whole: " << for_terminal(done.failed)
                    << (what.writes == "in-place"
                            ? "; take it back with: lantern undo " + for_shell(what.journal)
                            : "; what reached " + for_shell(what.journal) + " is kept")
                    << '\n';
    return kDoneWithFindings;
  }
  if (what.writes != "overlay" && what.writes != "in-place") return kDone;
  check_again(job, what);
  if (what.writes == "in-place")
    out << "The disk can be handed back. Take the changes back with: lantern undo "
        << for_shell(what.journal) << '\n';
  else
    out << "The disk is as it was; the changes are in " << for_terminal(what.journal) << '\n';
  return kDone;
}

}  // namespace

Run add_unmount(OptionParser& parser, Job& job) {
  struct Asked {
    std::string folder;
    bool force = false;
  };
  auto asked = std::make_shared<Asked>();
  const Command command =
      parser.command("unmount", "unmount, with what lies on it; says who holds the folder");
  command.option("DIR", asked->folder, "where it is mounted").required();
  command.flag("--force", asked->force, "cut off programs that hold it");
  command.footer("Example: lantern unmount BENCH");
  return [&job, asked] { return unmount(job, asked->folder, asked->force); };
}

}  // namespace lantern::cli
