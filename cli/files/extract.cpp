#include <fmt/format.h>

#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/output.h"
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
  bool exact = false;
  std::string zone;
  std::string manifest;
  std::vector<std::string> patterns;
  std::vector<std::string> ids;
};

void print_estimate(const Job& job, const ExtractEstimate& sum, const Options& options) {
  std::ostream& out = job.streams.out;
  const bool room = sum.bytes <= sum.free_bytes;
  if (options.common.json) {
    JsonWriter json(out);
    json.begin_object().key("files").value(sum.files).key("folders").value(sum.folders);
    json.key("size_bytes").value(sum.bytes).key("not_whole").value(sum.not_whole);
    json.key("clashes").value(sum.clashes).key("free_bytes").value(sum.free_bytes);
    json.key("room").value(room);
    findings_json(json, job.context);
    json.end_object();
    return;
  }
  out << fmt::format("{}, {}, {}; {} of them not proven whole\n", counted(sum.files, "file"),
                     counted(sum.folders, "folder"), size_text(sum.bytes, options.exact),
                     sum.not_whole);
  out << fmt::format("{} free at the destination: {}\n", size_text(sum.free_bytes, options.exact),
                     room ? "there is room" : "there is NOT enough room");
  if (sum.clashes > 0)
    out << fmt::format("{} names are taken there; those files get their id added to the name\n",
                       sum.clashes);
}

void print_summary(const Job& job, const ExtractSummary& done, const Options& options,
                   const std::string& destination) {
  std::ostream& out = job.streams.out;
  if (options.common.json) {
    JsonWriter json(out);
    json.begin_object().key("destination").value(destination);
    json.key("manifest").value(done.manifest).key("manifest_sha256").value(done.manifest_sha256);
    json.key("files").value(done.files).key("size_bytes").value(done.bytes);
    json.key("deleted").value(done.deleted).key("partial").value(done.partial);
    json.key("nothing_left")
        .value(done.nothing_left)
        .key("already_there")
        .value(done.already_there);
    json.key("special").value(done.special).key("undressed").value(done.undressed);
    json.key("failed").value(done.failed).key("stopped").value(done.stopped);
    findings_json(json, job.context);
    json.end_object();
    return;
  }
  out << fmt::format("{}, {}, written to {}\n", counted(done.files, "file"),
                     size_text(done.bytes, options.exact), for_terminal(destination));
  const auto line = [&](std::uint64_t count, Meaning meaning, std::string_view what) {
    if (count > 0)
      out << coloured(job.streams, meaning, fmt::format("  {} {}", count, what)) << '\n';
  };
  line(done.deleted, Meaning::plain, "had been deleted");
  line(done.partial, Meaning::deleted,
       "not proven whole: under partial/, the manifest says what is missing or in doubt");
  line(done.nothing_left, Meaning::damaged, "more of which nothing is left");
  line(done.already_there, Meaning::plain, "there already from an earlier run");
  line(done.special, Meaning::plain, "devices, pipes and sockets: in the manifest alone");
  line(done.undressed, Meaning::plain,
       "whose owner or attributes could not all be set here: the manifest has them");
  line(done.failed, Meaning::damaged, "could not be written, the manifest says why");
  out << "manifest: " << for_terminal(done.manifest) << '\n';
}

int extract_files(Job& job, Options options) {
  const bool outright = !options.common.source.empty();
  if (options.arguments.size() != 2 && !(outright && options.arguments.size() == 1))
    throw Error(ErrorCode::usage, {}, std::nullopt, "a source and a destination are needed",
                "for example: lantern extract station.vdi::2 RESCUED");
  const std::string destination = options.arguments.back();
  const Address address =
      options.common.address(options.arguments.size() == 2 ? options.arguments.front() : "");
  const Target target = options.common.session(job).open_volume(address);
  print_choice(job.streams, target);

  ExtractOptions wanted;
  wanted.active = !options.deleted_only;
  wanted.deleted = options.deleted || options.deleted_only;
  wanted.patterns = options.patterns;
  for (const std::string& id : options.ids)
    wanted.ids.push_back(id.starts_with('@') ? id.substr(1) : id);
  wanted.hash = !options.no_hash;
  wanted.attributes = options.attributes;
  wanted.owners = options.owners;
  wanted.set_id = options.set_id;
  wanted.streams = options.streams;
  wanted.manifest = options.manifest;
  wanted.local_to_utc = zone_of(options.zone);
  const auto line = std::make_shared<ProgressLine>(job.streams.err);
  if (job.streams.err_is_terminal) job.context.progress = line;
  Extraction extraction(target, destination, wanted, *options.common.host(job), job.context);
  if (options.estimate) {
    print_estimate(job, extraction.estimate(), options);
    return exit_for_findings(job);
  }
  const ExtractSummary done = extraction.run();
  line->clear();
  print_summary(job, done, options, destination);
  const bool all_whole = done.partial == 0 && done.nothing_left == 0 && done.failed == 0;
  const int code = done.stopped ? kStopped : all_whole ? exit_for_findings(job) : kDoneWithFindings;
  append_to_case(options.common.case_folder, job, {address.first},
                 {{done.manifest, done.manifest_sha256}}, code);
  if (!options.common.json) print_findings(job.streams, job.streams.err, job.context);
  if (done.stopped) job.streams.err << "lantern: stopped; run the same command again to go on\n";
  return code;
}

}  // namespace

Run add_extract(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command = parser.command("extract", "files out, with a manifest that proves them");
  options->common.add_to(command, job);
  command
      .option("SRC DEST", options->arguments,
              "what to take (a disk, volume, folder, file or entry), and the folder to "
              "write to")
      .values(1, 2);
  command.flag("--deleted", options->deleted, "deleted files too");
  command.flag("--deleted-only", options->deleted_only, "deleted files alone");
  command.option("--match", options->patterns,
                 "only names (or paths, with a '/') of this shell pattern; repeatable");
  command.option("--id", options->ids, "only the entry of this id; repeatable");
  command.flag("--estimate", options->estimate, "say how much it would be; write nothing");
  command.option("--manifest", options->manifest, "where the manifest goes");
  command.flag("--no-hash", options->no_hash, "no SHA-256 of the files");
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
