#include <fmt/format.h>

#include <algorithm>
#include <memory>
#include <ostream>

#include "cli/advice.h"
#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/files/entries.h"
#include "cli/progress.h"
#include "cli/zone.h"

namespace lantern::cli {
namespace {

struct Options {
  CommonOptions common;
  std::vector<std::string> arguments;  // SRC DEST, or DEST with --source
  bool deleted = false;
  bool deleted_only = false;
  bool estimate = false;
  bool no_hash = false;
  bool attributes = false;
  bool streams = false;
  bool owners = false;
  bool set_id = false;
  bool separate_partial = false;
  bool together = false;
  bool no_verify = false;
  bool exact = false;
  bool all_volumes = false;
  std::string zone;
  std::string manifest;
  std::vector<std::string> patterns;
  std::vector<std::string> without;
  std::vector<std::string> ids;
  std::vector<std::string> names;
};

void print_estimate(const Job& job, const ExtractEstimate& sum, const Options& options) {
  std::ostream& out = job.streams.out;
  const bool room = sum.bytes <= sum.free_bytes;
  if (options.common.json) {
    JsonWriter json(out);
    json.begin_object().key("files").value(sum.files).key("folders").value(sum.folders);
    json.key("size_bytes").value(sum.bytes).key("incomplete").value(sum.incomplete);
    json.key("clashes").value(sum.clashes).key("free_bytes").value(sum.free_bytes);
    json.key("room").value(room);
    findings_json(json, job);
    json.end_object();
    return;
  }
  out << fmt::format("{}, {}, {}; {} of them incomplete or in doubt\n", counted(sum.files, "file"),
                     counted(sum.folders, "folder"), size_text(sum.bytes, options.exact),
                     sum.incomplete);
  out << fmt::format("{} free at the destination: {}\n", size_text(sum.free_bytes, options.exact),
                     room ? "there is room" : "there is NOT enough room");
  if (sum.clashes > 0)
    out << fmt::format("{} names are taken there; those files get their id added to the name\n",
                       sum.clashes);
}

// Where the manifest does not lie beside its files.
std::string folder_given(const Options& options, const std::string& destination) {
  return options.manifest.empty() ? std::string() : " --folder " + for_shell(destination);
}

void print_summary(const Job& job, const ExtractSummary& done, const ReportFiles& report,
                   const Options& options, const std::string& destination) {
  std::ostream& out = job.streams.out;
  if (options.common.json) {
    JsonWriter json(out);
    json.begin_object().key("destination").value(destination);
    json.key("manifest").value(done.manifest).key("manifest_sha256").value(done.manifest_sha256);
    json.key("report").value(report.page);
    json.key("files").value(done.files).key("size_bytes").value(done.bytes);
    json.key("deleted").value(done.deleted).key("verified").value(done.verified);
    json.key("partial").value(done.partial);
    json.key("unrecoverable")
        .value(done.unrecoverable)
        .key("already_there")
        .value(done.already_there);
    json.key("special").value(done.special).key("metadata_failed").value(done.metadata_failed);
    json.key("failed").value(done.failed).key("stopped").value(done.stopped);
    findings_json(json, job);
    json.end_object();
    return;
  }
  if (done.manifest.empty()) {
    out << "Nothing was written.\n";
    return;
  }
  out << fmt::format("{}, {}, written to {}\n", counted(done.files, "file"),
                     size_text(done.bytes, options.exact), for_terminal(destination));
  const auto line = [&](std::uint64_t count, Meaning meaning, std::string_view what) {
    if (count > 0)
      out << coloured(job.streams, meaning, fmt::format("  {} {}", count, what)) << '\n';
  };
  line(done.deleted, Meaning::plain, "had been deleted");
  line(done.verified, Meaning::good, "verified by checksums in their contents");
  line(done.partial, Meaning::deleted,
       options.separate_partial
           ? "incomplete or in doubt: under partial/, the manifest says what is missing"
           : "incomplete or in doubt: the manifest says what is missing");
  line(done.unrecoverable, Meaning::damaged, "more that are unrecoverable");
  line(done.already_there, Meaning::plain, "there already from an earlier run");
  line(done.special, Meaning::plain, "devices, pipes and sockets: in the manifest alone");
  line(done.metadata_failed, Meaning::plain,
       "whose owner or attributes could not all be set here: the manifest has them");
  line(done.failed, Meaning::damaged, "could not be written, the manifest says why");
  out << "manifest: " << for_terminal(done.manifest) << '\n';
  out << "report:   " << for_terminal(report.page) << '\n';
}

std::string plain_id(const std::string& id) {
  return id.starts_with('@') ? id.substr(1) : id;
}

ExtractOptions wanted_of(const Options& options) {
  ExtractOptions wanted;
  wanted.active = !options.deleted_only;
  wanted.deleted = options.deleted || options.deleted_only;
  wanted.patterns = options.patterns;
  wanted.without = options.without;
  for (const std::string& id : options.ids) wanted.ids.push_back(plain_id(id));
  for (const std::string& name : options.names) {
    const std::size_t equals = name.find('=');
    if (equals == std::string::npos || equals + 1 == name.size())
      throw Error(ErrorCode::usage, {}, std::nullopt, "\"" + name + "\" names no entry",
                  "for example: --name @1049600=log.txt");
    wanted.names[plain_id(name.substr(0, equals))] = name.substr(equals + 1);
  }
  wanted.separate_partial = options.separate_partial;
  wanted.together = options.together;
  wanted.verify = !options.no_verify;
  wanted.hash = !options.no_hash;
  wanted.attributes = options.attributes;
  wanted.owners = options.owners;
  wanted.set_id = options.set_id;
  wanted.streams = options.streams;
  wanted.manifest = options.manifest;
  wanted.local_to_utc = zone_of(options.zone);
  return wanted;
}

// One volume into one folder.
int extract_one(Job& job, const Options& options, const Target& target,
                const std::string& destination) {
  const auto line = std::make_shared<ProgressLine>(job.streams.err);
  if (job.streams.err_is_terminal) job.context.progress = line;
  Extraction extraction(target, destination, wanted_of(options), *options.common.host(job),
                        job.context);
  if (options.estimate) {
    print_estimate(job, extraction.estimate(), options);
    return exit_for_findings(job);
  }
  const ExtractSummary done = extraction.run();
  line->clear();
  ReportFiles report;
  if (!done.manifest.empty())
    report = report_extraction(
        done.manifest,
        command_for({Do::verify, {done.manifest}}) + folder_given(options, destination),
        job.context);
  print_summary(job, done, report, options, destination);
  const bool all_intact = done.partial == 0 && done.unrecoverable == 0 && done.failed == 0;
  const int code = done.stopped ? kStopped
                   : all_intact ? exit_for_findings(job)
                                : kDoneWithFindings;
  std::vector<std::pair<std::string, std::string>> outputs;
  if (!done.manifest.empty()) outputs.emplace_back(done.manifest, done.manifest_sha256);
  append_to_case(options.common.case_folder, job, {target.disks.front()->address.first}, outputs,
                 code);
  if (!options.common.json) print_findings(job, job.streams.err);
  if (done.stopped) job.streams.err << "lantern: stopped; run the same command again to go on\n";
  return code;
}

// Each into a folder of its own below the destination.
int extract_all(Job& job, const Options& options, const Address& address,
                const std::string& destination) {
  if (!options.manifest.empty() || options.common.json || !options.ids.empty())
    throw Error(ErrorCode::usage, {}, std::nullopt, "--manifest, --json and --id are of one volume",
                "name the volume instead of --all-volumes");
  int worst = kDone;
  for (const Target& target : every_volume(address, options.common.session(job))) {
    const VolumeLayer& volume = target.volume_layer();
    const std::string folder =
        destination + "/volume-" +
        (volume.row.number > 0 ? std::to_string(volume.row.number)
                               : "at-" + std::to_string(volume.row.range.offset));
    job.streams.out << coloured(job.streams, Meaning::heading, for_terminal(volume.address.print()))
                    << '\n';
    worst = std::max(worst, extract_one(job, options, target, folder));
    if (worst == kStopped) break;
  }
  return worst;
}

int extract_files(Job& job, const Options& options) {
  const bool outright = !options.common.source.empty();
  if (options.arguments.size() != 2 && !(outright && options.arguments.size() == 1))
    throw Error(ErrorCode::usage, {}, std::nullopt, "a source and a destination are needed",
                "for example: lantern extract station.vdi::2 RESCUED");
  const std::string& destination = options.arguments.back();
  const Address address =
      options.common.address(options.arguments.size() == 2 ? options.arguments.front() : "");
  if (means_every_volume(options.all_volumes, address))
    return extract_all(job, options, address, destination);
  const Target target = options.common.session(job).open_volume(address);
  if (!options.common.json) print_choice(job, target);
  return extract_one(job, options, target, destination);
}

}  // namespace

Run add_extract(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command = parser.command("extract", "extract files, with a SHA-256 manifest");
  options->common.add_to(command, job);
  options->common.add_keys_to(command);
  command
      .option("SRC DEST", options->arguments,
              "what to take (a disk, volume, folder, file or entry), and the folder to "
              "write to")
      .values(1, 2);
  command.flag("--deleted", options->deleted, "deleted files too");
  command.flag("--deleted-only", options->deleted_only, "deleted files alone");
  command.option("--match", options->patterns,
                 "only names (or paths, with a '/') of this shell pattern; repeatable");
  command.option("--without", options->without,
                 "leave out names (or paths) of this shell pattern; repeatable");
  command.option("--id", options->ids, "only the entry of this id; repeatable");
  command.option("--name", options->names,
                 "ID=NAME: write that entry under another name; repeatable");
  command.flag("--together", options->together,
               "deleted files beside the active ones, not under deleted/");
  command.flag("--separate-partial", options->separate_partial,
               "what is incomplete or in doubt apart, under partial/");
  command.flag("--all-volumes", options->all_volumes,
               "every volume of the disk that can be read, each into a folder of its own");
  command.flag("--estimate", options->estimate, "say how much it would be; write nothing");
  command.option("--manifest", options->manifest, "where the manifest goes");
  command.flag("--no-hash", options->no_hash, "no SHA-256 of the files");
  command.flag("--no-verify", options->no_verify,
               "do not check the contents by their own checksums and structure");
  command.flag("--attributes", options->attributes, "extended attributes and access lists too");
  command.flag("--streams", options->streams,
               "further streams of a file too, each as a file beside it");
  command.flag("--owners", options->owners, "owner, group and mode too");
  command.flag("--set-id", options->set_id, "with --owners: set-user-id and set-group-id bits too");
  command.option("--timezone", options->zone,
                 "zone of the disk's local times: UTC, +02:00, Europe/Oslo");
  command.flag("--exact", options->exact, "sizes in bytes");
  command.footer("Example: lantern extract station.vdi::2 RESCUED --deleted");
  return [&job, options] { return extract_files(job, *options); };
}

}  // namespace lantern::cli
