#include "cli/app.h"
#include "cli/keys.h"

#include <filesystem>
#include <map>
#include <ostream>
#include <utility>

#include "cli/advice.h"
#include "cli/commands.h"
#include "cli/output.h"

namespace lantern::cli {
namespace {

bool exists_on_host(const std::string& path) {
  std::error_code error;
  return std::filesystem::exists(std::filesystem::symlink_status(path, error));
}

int exit_code(ErrorCode code) {
  switch (code) {
    case ErrorCode::usage:
    case ErrorCode::not_found:
      return kUsage;
    case ErrorCode::refused:
    case ErrorCode::cannot_write:
      return kRefused;
    case ErrorCode::stopped:
      return kStopped;
    case ErrorCode::cannot_open:
    case ErrorCode::cannot_read:
    case ErrorCode::unsupported:
      return kCannotRead;
  }
  return kCannotRead;
}

// What the command reads is read through the scratch it was given. A repair begins one; what mounts
// or serves for writing does so itself.
void open_scratch(const std::string& command, Job& job) {
  const std::string& path = job.scratch_file;
  if (path.empty()) return;
  const bool there = exists_on_host(path);
  if (!there && (command == "mount" || command == "serve")) return;
  if (command != "repair" && command != "grow" && !there)
    throw Error(ErrorCode::not_found, path, std::nullopt, "there is no such overlay file",
                "lantern repair SRC --apply --overlay FILE makes one");
  job.context.scratch = Scratch::in_file(path, job.context.clock->now_seconds());
}

int parse_and_run(Job& job) {
  OptionParser parser(
      "Opens dead disks without harming them, and brings the files back.",
      "lantern " LANTERN_VERSION,
      "An address names any layer: disk.vdi, disk.vdi::2, disk.vdi::2::/folder/file.\n"
      "Exit codes: 0 done, 1 done with findings, 2 wrong usage, 3 cannot be read,\n"
      "4 refused for safety, 5 stopped and can go on.\n\n"
      "Start with: lantern survey disk.vdi");
  const std::vector<std::pair<std::string, Run (*)(OptionParser&, Job&)>> commands = {
      {"disks", add_disks},       {"map", add_map},         {"survey", add_survey},
      {"machines", add_machines}, {"list", add_list},       {"find", add_find},
      {"show", add_show},         {"extract", add_extract}, {"image", add_image},
      {"array", add_array},       {"sector", add_sector},   {"compare", add_compare},
      {"sweep", add_sweep},       {"verify", add_verify},   {"repair", add_repair},
      {"grow", add_grow},         {"undo", add_undo},       {"catalog", add_catalog},
#ifdef LANTERN_MOUNT
      {"mount", add_mount},       {"unmount", add_unmount},
#endif
#ifdef LANTERN_SERVE
      {"serve", add_serve},
#endif
      {"demo", add_demo}};
  std::map<std::string, Run> actions;
  for (const auto& [name, add] : commands) actions[name] = add(parser, job);
  const auto command = parser.parse(job.arguments, job.streams.out);
  if (!command) return kDone;
  open_scratch(*command, job);
  return actions.at(*command)();
}

}  // namespace

void CommonOptions::add_to(const Command& command, Job& job) {
  command.heading(Command::kForEvery);
  command.flag("--json", json, "one JSON document on standard output");
  command.option("--source", source, "the source outright, when its name has \"::\" in it");
  command.option("--sector-size", sector_size, "bytes of a sector, when the table was made for it")
      .one_of({"512", "1024", "2048", "4096"});
  command.option("--code-page", code_page, "of FAT short names (437, 850, 866, ...)");
  command.option("--search-dir", look_in,
                 "a folder to search for parents and extents of the disk; repeatable");
  command.option("--with", with,
                 "a further source of the same job: another disk of an array or group, or of a "
                 "journal; repeatable");
  command.flag("--allow-devices", allow_devices,
               "open devices of this computer that a descriptor names");
  command.option("--simulate", simulate, "a file that describes simulated disks, for practice");
  command.option("--overlay", job.scratch_file,
                 "a file of writes to overlay on the source, made by repair, mount or serve");
  command.flag("--findings", job.all_findings, "every finding by itself, none grouped");
  command.option("--case", case_folder, "append what was done to DIR/case.jsonl");
  command.heading(Command::kOwn);
}

void CommonOptions::add_keys_to(const Command& command) {
  command.heading("Encrypted volumes");
  command.option("--key-file", key_files,
                 "a file with a passphrase or key, as it is; ADDRESS=FILE for one volume; "
                 "repeatable");
  command.flag("--ask-key", ask_key, "ask for the passphrase of each volume that needs one");
  command.heading(Command::kOwn);
}

Address CommonOptions::address(const std::string& argument) const {
  if (source.empty()) return Address::parse(argument);
  const auto is_source = [&](const std::string& path) { return path == source; };
  // With --source the argument holds the steps alone.
  return Address::parse(argument.empty() ? source : source + "::" + argument, is_source);
}

std::string CommonOptions::as_typed() const {
  std::string text;
  for (const std::string& other : with) text += " --with " + for_shell(other);
  for (const std::string& key : key_files) text += " --key-file " + for_shell(key);
  if (ask_key) text += " --ask-key";
  for (const std::string& folder : look_in) text += " --search-dir " + for_shell(folder);
  if (!simulate.empty()) text += " --simulate " + for_shell(simulate);
  if (sector_size != 0) text += " --sector-size " + std::to_string(sector_size);
  if (code_page != "CP437") text += " --code-page " + for_shell(code_page);
  return text;
}

const Session& CommonOptions::session(const Job& job) const {
  if (job.opened) return *job.opened;
  OpenOptions options;
  if (sector_size != 0) options.sector_size = sector_size;
  options.file_system.code_page = code_page;
  options.host = simulate.empty() ? this_host() : simulated_host(simulate, this_host());
  options.look_in = look_in;
  options.allow_devices = allow_devices;
  for (const std::string& one : with) options.with.push_back(Address::parse(one));
  if (!key_files.empty() || ask_key) options.file_system.keys = key_ring(key_files, ask_key);
  const Session& session = job.opened.emplace(std::move(options), job.context);
  // One that cannot be opened is said at once, not when it is missed.
  for (const Address& one : session.options().with)
    for (const Address& disk : disks_of(one, session.context())) session.open_disk(disk);
  return session;
}

int exit_for_findings(const Job& job) {
  return job.context.findings->worse_than_note() ? kDoneWithFindings : kDone;
}

int run(const std::vector<std::string>& arguments, const Streams& streams,
        std::shared_ptr<const std::atomic<bool>> cancel) {
  Job job{streams, Context(), arguments, {}, false, {}};
  job.context.cancel = std::move(cancel);
  try {
    return parse_and_run(job);
  } catch (const Error& error) {
    // A progress line may still stand on the terminal.
    if (streams.err_is_terminal) streams.err << "\r\x1b[K";
    streams.err << "lantern: " << for_terminal(error_text(error)) << '\n';
    return exit_code(error.code());
  } catch (const std::exception& error) {
    // Reaching this is a fault of ours; the source is untouched all the same.
    streams.err << "lantern: internal fault: " << for_terminal(error.what())
                << "; the source was not changed, please report this\n";
    return kCannotRead;
  }
}

}  // namespace lantern::cli
