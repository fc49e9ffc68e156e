#include <fmt/format.h>

#include <filesystem>
#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/machines.h"
#include "cli/output.h"
#include "cli/progress.h"

namespace lantern::cli {
namespace {

struct Options {
  CommonOptions common;
  std::vector<std::string> arguments;
  std::string kind = "raw";
  bool no_hash = false;
  bool failing = false;
  unsigned rounds = 2;
};

// The bytes an address names: a layer as it lies, a file, a volume, or a whole disk.
SourcePtr bytes_of(const Target& target) {
  if (target.bytes) return target.bytes;
  if (target.entry) return target.file_system().open(*target.entry).bytes;
  if (target.volume) return target.volume_layer().bytes;
  return target.disk().container.flat;
}

void write_ranges(JsonWriter& json, const char* key, const std::vector<Range>& ranges) {
  json.key(key).begin_array();
  for (const Range& range : ranges)
    json.begin_array().value(range.offset).value(range.length).end_array();
  json.end_array();
}

std::uint64_t total(const std::vector<Range>& ranges) {
  std::uint64_t bytes = 0;
  for (const Range& range : ranges) bytes += range.length;
  return bytes;
}

void print_json(const Job& job, const std::string& out, std::string_view kind,
                const ImageSummary& done) {
  JsonWriter json(job.streams.out);
  json.begin_object().key("image").value(out).key("kind").value(kind);
  json.key("disk_bytes").value(done.disk_bytes).key("stored_bytes").value(done.stored_bytes);
  json.key("sha256");
  done.sha256.empty() ? json.null() : json.value(done.sha256);
  write_ranges(json, "unreadable", done.unreadable);
  json.key("went_on").value(done.went_on).key("stopped").value(done.stopped);
  findings_json(json, job.context);
  json.end_object();
}

void refuse_unsafe(const Job& job, const Options& options, const std::vector<std::string>& sources,
                   const std::string& out) {
  const std::string folder = std::filesystem::absolute(out).parent_path().string();
  for (const std::string& source : sources)
    if (const std::string unsafe =
            why_destination_is_unsafe(*options.common.host(job), source, folder);
        !unsafe.empty())
      throw Error(ErrorCode::refused, out, std::nullopt, "cannot be the output: " + unsafe,
                  "choose a place on another disk");
}

struct Whole {
  SourcePtr bytes;
  std::string path;  // on this computer
};

Whole open_whole(const Job& job, const Options& options, const Address& address) {
  const std::string mark = "disk:";
  if (!address.first.starts_with(mark))
    return {open_file_source(address.first, job.context), address.first};
  const Host& host = *options.common.host(job);
  const NamedDisk disk = find_disk(host, address.first.substr(mark.size()), job.context);
  return {host.open_disk(disk.facts, job.context), disk.facts.device};
}

// A disk that fails, in the order that gives the most of it.
int copy_failing(Job& job, const Options& options, const SourcePtr& disk, const Address& address,
                 const std::string& out) {
  if (options.kind != "raw")
    throw Error(ErrorCode::usage, out, std::nullopt, "a failing disk is copied as raw bytes",
                "leave --as out, and make another kind of the copy afterwards");
  FailingCopy wanted;
  wanted.name = address.print();
  wanted.rounds = options.rounds;
  wanted.hash = !options.no_hash;
  const auto line = std::make_shared<ProgressLine>(job.streams.err);
  if (job.streams.err_is_terminal) job.context.progress = line;
  const FailingCopyState done = copy_failing_disk(disk, out, wanted, job.context);
  line->clear();
  std::ostream& text = job.streams.out;
  if (options.common.json) {
    JsonWriter json(text);
    json.begin_object().key("image").value(out).key("kind").value("raw");
    json.key("disk_bytes").value(done.disk_bytes).key("good_bytes").value(done.good_bytes);
    json.key("reads").value(done.reads).key("sha256");
    done.sha256.empty() ? json.null() : json.value(done.sha256);
    write_ranges(json, "unreadable", done.unreadable);
    write_ranges(json, "untried", done.untried);
    json.key("went_on").value(done.went_on).key("stopped").value(done.stopped);
    findings_json(json, job.context);
    json.end_object();
  } else {
    text << fmt::format("{} of {} are in {}, by {} of the disk\n",
                        size_text(done.good_bytes, false), size_text(done.disk_bytes, false),
                        for_terminal(done.stopped ? out + ".part" : out),
                        counted(done.reads, "read"));
    if (done.went_on) text << "gone on where an earlier run stopped\n";
    if (!done.sha256.empty()) text << "SHA-256 of the copy: " << done.sha256 << '\n';
    if (!done.unreadable.empty())
      text << coloured(job.streams, Meaning::damaged,
                       fmt::format("{} could not be read and are zeros; {}.reading lists them",
                                   size_text(total(done.unreadable), false), for_terminal(out)))
           << '\n';
    if (!done.untried.empty())
      text << size_text(total(done.untried), false)
           << " are still to be tried: the same command goes on\n";
  }
  if (done.stopped) job.streams.err << "lantern: " << for_terminal(done.why_stopped) << '\n';
  const int code = done.stopped ? kStopped : done.unreadable.empty() ? kDone : kDoneWithFindings;
  append_to_case(options.common.case_folder, job, {address.first}, {{out, done.sha256}}, code);
  return code;
}

int make_image(Job& job, const Options& options) {
  const bool outright = !options.common.source.empty();
  if (options.arguments.size() != 2 && !(outright && options.arguments.size() == 1))
    throw Error(ErrorCode::usage, {}, std::nullopt, "a source and an output are needed",
                "for example: lantern image station.vdi COPY.raw --as raw");
  const std::string& out = options.arguments.back();
  const Address address =
      options.common.address(options.arguments.size() == 2 ? options.arguments.front() : "");
  ImageOptions wanted;
  wanted.kind = image_kind(options.kind).value_or(ImageKind::raw);
  wanted.hash = !options.no_hash;
  // What is looked at costs a failing disk reads: a whole one is opened as it is.
  if (options.failing && address.steps.empty()) {
    const Whole disk = open_whole(job, options, address);
    refuse_unsafe(job, options, {disk.path}, out);
    return copy_failing(job, options, disk.bytes, address, out);
  }
  const Target target = options.common.session(job).open(address);
  refuse_unsafe(job, options, bottom_sources(target), out);
  if (options.failing) return copy_failing(job, options, bytes_of(target), address, out);
  if (wanted.kind == ImageKind::qcow2_child) {
    const bool hash = wanted.hash;
    wanted = child_of(address, target.disks.front()->container.format, out);
    wanted.hash = hash;
  }
  const auto line = std::make_shared<ProgressLine>(job.streams.err);
  if (job.streams.err_is_terminal) job.context.progress = line;
  const ImageSummary done = write_image(bytes_of(target), out, wanted, job.context);
  line->clear();

  if (options.common.json) {
    print_json(job, out, options.kind, done);
  } else if (!done.stopped) {
    std::ostream& text = job.streams.out;
    text << fmt::format("{}, {} of them stored, written to {} as {}\n",
                        size_text(done.disk_bytes, false), size_text(done.stored_bytes, false),
                        for_terminal(out), options.kind);
    if (done.went_on) text << "gone on where an earlier run stopped\n";
    if (!done.sha256.empty()) text << "SHA-256 of the disk: " << done.sha256 << '\n';
    const std::uint64_t lost = total(done.unreadable);
    if (lost > 0)
      text << coloured(job.streams, Meaning::damaged,
                       fmt::format("{} could not be read and are zeros; {}.json lists them",
                                   size_text(lost, false), for_terminal(out)))
           << '\n';
    print_findings(job.streams, job.streams.err, job.context);
  }
  const int code = done.stopped               ? kStopped
                   : !done.unreadable.empty() ? kDoneWithFindings
                                              : exit_for_findings(job);
  append_to_case(options.common.case_folder, job, {address.first}, {{out, done.sha256}}, code);
  if (done.stopped) job.streams.err << "lantern: " << for_terminal(done.why_stopped) << '\n';
  return code;
}

}  // namespace

Run add_image(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command = parser.command("image", "a copy of a disk as an image of another kind");
  options->common.add_to(command, job);
  command
      .option("SRC OUT", options->arguments,
              "what to copy (a disk, a volume, a file in one), and the image to write")
      .values(1, 2);
  command.option("--as", options->kind, "the kind of image")
      .one_of({"raw", "vmdk", "vmdk-stream", "vdi", "vhd", "vhd-fixed", "vhdx", "qcow2",
               "qcow2-compressed", "qcow2-child"});
  command.flag("--no-hash", options->no_hash, "no SHA-256 of the disk");
  command.flag("--failing", options->failing,
               "a disk that fails: what reads well first, trouble later; goes on where it stopped");
  command.option("--rounds", options->rounds, "how often what failed is tried again (default 2)");
  command.footer("Example: lantern image station.vdi station.qcow2 --as qcow2");
  return [&job, options] { return make_image(job, *options); };
}

}  // namespace lantern::cli
