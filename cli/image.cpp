#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <filesystem>
#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/output.h"
#include "cli/progress.h"
#include "cli/survey/machines.h"
#include "lantern/recover/free_space.h"

namespace lantern::cli {
namespace {

constexpr std::size_t kTextColumns = 64, kTextPlaces = 1024;

struct Options {
  CommonOptions common;
  std::vector<std::string> arguments;
  std::string kind;  // empty: by the ending of the output
  bool no_hash = false;
  bool failing = false;
  unsigned rounds = 2;
  unsigned give_up_after = 20;  // seconds
  bool metadata_first = false;
  std::vector<std::string> files_first;
  std::vector<std::string> join;
  std::string state;
  std::string picture;
  bool compact = false;
  bool zero_free = false;
};

// The file an address ends in as the disk it is; one that is no image stays the file.
Target opened(const Session& session, const Address& address) {
  Target target = session.open(address);
  // What a volume of a group holds is a disk where it is one.
  if (target.volume && target.volume->row.spans && !target.entry && !target.bytes) {
    Target disk = session.open_disk(address);
    return disk.disk().container.format == "raw" ? target : disk;
  }
  if (!target.entry || target.entry->kind != EntryKind::file || !target.stream.empty())
    return target;
  Context quiet = session.context();
  quiet.findings = std::make_shared<FindingSink>();
  const Target inside = session.with(quiet).open_disk(address);
  return inside.disk().container.format == "raw" ? target : session.open_disk(address);
}

// The bytes an address names: a raw container file, a file, a volume, or a whole disk.
SourcePtr bytes_of(const Target& target) {
  if (target.bytes) return target.bytes;
  if (target.entry) return target.file_system().open(*target.entry, target.stream).bytes;
  if (target.volume) return target.volume_layer().bytes;
  return target.disk().container.flat;
}

// What an image of this kind is called by custom.
std::string ending_of(std::string_view kind) {
  for (const std::string_view family : {"vmdk", "vdi", "vhdx", "vhd", "qcow2"})
    if (kind.starts_with(family)) return std::string(family);
  return "raw";
}

// The kind that was asked for, else the one that the output's name says. Throws Error{usage} when
// the two contradict each other.
std::string kind_of(const std::string& asked, const std::string& out) {
  std::string ending = std::filesystem::path(out).extension().string();
  std::transform(ending.begin(), ending.end(), ending.begin(), [](char c) {
    return c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
  });
  if (ending == ".img" || ending == ".dd") ending = ".raw";
  const std::string said = ending.empty() ? "" : ending.substr(1);
  const bool is_kind = said == "raw" || ending_of(said) == said;
  if (asked.empty()) return is_kind ? said : "raw";
  if (is_kind && ending_of(asked) != said)
    throw Error(ErrorCode::usage, out, std::nullopt,
                fmt::format("is named as {} and asked for as {}", said, asked),
                "leave --as out, or name it ." + ending_of(asked));
  return asked;
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
                const ImageSummary& done, const std::vector<FreeSpace>& volumes) {
  JsonWriter json(job.streams.out);
  json.begin_object().key("image").value(out).key("kind").value(kind);
  json.key("disk_bytes").value(done.disk_bytes).key("stored_bytes").value(done.stored_bytes);
  json.key("sha256");
  done.sha256.empty() ? json.null() : json.value(done.sha256);
  write_ranges(json, "unreadable", done.unreadable);
  json.key("resumed").value(done.resumed).key("stopped").value(done.stopped);
  json.key("free_left_out").begin_array();
  for (const FreeSpace& space : volumes) {
    json.begin_object().key("volume").value(space.volume).key("bytes").value(space.left_out_bytes);
    json.key("kept_whole");
    space.kept_whole.empty() ? json.null() : json.value(space.kept_whole);
    json.end_object();
  }
  json.end_array();
  findings_json(json, job);
  json.end_object();
}

// The disk without what its file systems call free; said before anything is written.
WithoutFree compacted(Job& job, const Options& options, const Target& target, ImageKind kind,
                      const std::string& out) {
  if (kind == ImageKind::qcow2_child)
    throw Error(ErrorCode::usage, out, std::nullopt, "a child has nothing of its own to leave out",
                "make a copy of another kind");
  if (options.compact && kind == ImageKind::vhd_fixed)
    throw Error(ErrorCode::usage, out, std::nullopt, "an image of this kind has no holes",
                "--zero-free writes zeros where space is free");
  WithoutFree less = leave_out_free(target, job.context);
  std::ostream& text = job.streams.err;
  for (const FreeSpace& space : less.volumes)
    text << fmt::format("{}: {}\n", for_terminal(space.volume),
                        space.kept_whole.empty()
                            ? size_text(space.left_out_bytes, false) + " of free space are left out"
                            : "kept whole: " + for_terminal(space.kept_whole));
  if (std::any_of(less.volumes.begin(), less.volumes.end(),
                  [](const FreeSpace& space) { return space.left_out_bytes > 0; }))
    text << "What was deleted there cannot be found in the copy; keep the original until it is "
            "not needed.\n";
  return less;
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
  std::string name;  // that lasts, where it has one
};

Whole open_whole(const Job& job, const Options& options, const Address& address) {
  const std::string mark = "disk:";
  if (!address.first.starts_with(mark))
    return {open_file_source(address.first, job.context), address.first, address.print()};
  const Host& host = *options.common.host(job);
  const NamedDisk disk = find_disk(host, address.first.substr(mark.size()), job.context);
  return {host.open_disk(disk.facts, job.context), disk.facts.device, mark + disk.name};
}

// What a copy of a failing disk has by now.
int tell_copy(Job& job, const Options& options, const std::string& source, const std::string& out,
              const FailingCopyState& done) {
  std::ostream& text = job.streams.out;
  if (options.common.json) {
    JsonWriter json(text);
    json.begin_object().key("image").value(out).key("kind").value("raw");
    json.key("disk_bytes").value(done.disk_bytes).key("good_bytes").value(done.good_bytes);
    json.key("reads").value(done.reads).key("sha256");
    done.sha256.empty() ? json.null() : json.value(done.sha256);
    write_ranges(json, "unreadable", done.unreadable);
    write_ranges(json, "untried", done.untried);
    write_ranges(json, "suspect", done.suspect);
    json.key("given_up").value(done.given_up);
    json.key("resumed").value(done.resumed).key("stopped").value(done.stopped);
    findings_json(json, job);
    json.end_object();
  } else {
    text << fmt::format("{} of {} are in {}, by {} of the disk\n",
                        size_text(done.good_bytes, false), size_text(done.disk_bytes, false),
                        for_terminal(done.untried.empty() && !done.stopped ? out : out + ".part"),
                        counted(done.reads, "read"));
    text << as_text(picture_of_copy(out, kTextPlaces), kTextColumns);
    if (done.given_up > 0)
      text << counted(done.given_up, "read") << " were given up for want of an answer\n";
    if (done.resumed) text << "gone on where an earlier run stopped\n";
    if (!done.sha256.empty()) text << "SHA-256 of the copy: " << done.sha256 << '\n';
    if (!done.unreadable.empty())
      text << coloured(job.streams, Meaning::damaged,
                       fmt::format("{} could not be read and are zeros; {}.reading lists them",
                                   size_text(total(done.unreadable), false), for_terminal(out)))
           << '\n';
    if (!done.suspect.empty())
      text << coloured(job.streams, Meaning::damaged,
                       fmt::format("{} came different when read again: they are suspect",
                                   size_text(total(done.suspect), false)))
           << '\n';
    if (!done.untried.empty())
      text << size_text(total(done.untried), false)
           << " are still to be tried: the same command goes on\n";
  }
  if (done.stopped) job.streams.err << "lantern: " << for_terminal(done.why_stopped) << '\n';
  if (!options.common.json) print_findings(job, job.streams.err);
  if (!options.picture.empty()) draw(picture_of_copy(out), options.picture);
  const bool whole = done.unreadable.empty() && done.untried.empty() && done.suspect.empty();
  const int code = done.stopped ? kStopped : whole ? kDone : kDoneWithFindings;
  append_to_case(options.common.case_folder, job, {source}, {{out, done.sha256}}, code);
  return code;
}

// A disk that fails, in the order that gives the most of it.
int copy_failing(Job& job, const Options& options, const SourcePtr& disk, const std::string& name,
                 const std::string& out) {
  if (kind_of(options.kind, out) != "raw")
    throw Error(ErrorCode::usage, out, std::nullopt, "a failing disk is copied as raw bytes",
                "name it .img, and make another kind of the copy afterwards");
  FailingCopy wanted;
  wanted.name = name;
  wanted.rounds = options.rounds;
  wanted.give_up = std::chrono::seconds(options.give_up_after);
  wanted.metadata_first = options.metadata_first;
  wanted.files_first = options.files_first;
  wanted.open = options.common.session(job).options();
  wanted.join = options.join;
  wanted.hash = !options.no_hash;
  const auto line = std::make_shared<ProgressLine>(job.streams.err);
  if (job.streams.err_is_terminal) job.context.progress = line;
  const FailingCopyState done = copy_failing_disk(disk, out, wanted, job.context);
  line->clear();
  return tell_copy(job, options, name, out, done);
}

// Copies of one disk, the first named as the source.
int join(Job& job, const Options& options, const std::string& first, const std::string& out) {
  std::vector<std::string> copies = {first};
  copies.insert(copies.end(), options.join.begin(), options.join.end());
  refuse_unsafe(job, options, copies, out);
  return tell_copy(job, options, first, out,
                   join_copies(copies, out, !options.no_hash, job.context));
}

// The state of a copy, without reading the disk.
int show_state(Job& job, const Options& options) {
  if (options.picture.empty())
    job.streams.out << as_text(picture_of_copy(options.state, kTextPlaces), kTextColumns);
  else
    draw(picture_of_copy(options.state), options.picture);
  return kDone;
}

int make_image(Job& job, const Options& options) {
  if (!options.state.empty()) return show_state(job, options);
  const bool outright = !options.common.source.empty();
  if (options.arguments.size() != 2 && !(outright && options.arguments.size() == 1))
    throw Error(ErrorCode::usage, {}, std::nullopt, "a source and an output are needed",
                "for example: lantern image station.vdi COPY.raw");
  const std::string& out = options.arguments.back();
  const Address address =
      options.common.address(options.arguments.size() == 2 ? options.arguments.front() : "");
  if (!options.failing && !options.join.empty()) return join(job, options, address.first, out);
  ImageOptions wanted;
  const std::string kind = kind_of(options.kind, out);
  wanted.kind = image_kind(kind).value_or(ImageKind::raw);
  wanted.hash = !options.no_hash;
  if (options.failing && (options.compact || options.zero_free))
    throw Error(ErrorCode::usage, out, std::nullopt,
                "a failing disk is copied whole, its free space too",
                "copy it, and then make a smaller copy of that");
  // What is looked at costs a failing disk reads: a whole one is opened as it is.
  if (options.failing && address.steps.empty()) {
    const Whole disk = open_whole(job, options, address);
    refuse_unsafe(job, options, {disk.path}, out);
    return copy_failing(job, options, disk.bytes, disk.name, out);
  }
  const Target target = opened(options.common.session(job), address);
  refuse_unsafe(job, options, bottom_sources(target), out);
  if (options.failing) return copy_failing(job, options, bytes_of(target), address.print(), out);
  if (wanted.kind == ImageKind::qcow2_child) {
    const bool hash = wanted.hash;
    wanted = child_of(address, target.disks.front()->container.format, out);
    wanted.hash = hash;
  }
  WithoutFree source{bytes_of(target), {}};
  if (options.compact || options.zero_free)
    source = compacted(job, options, target, wanted.kind, out);
  const auto line = std::make_shared<ProgressLine>(job.streams.err);
  if (job.streams.err_is_terminal) job.context.progress = line;
  const ImageSummary done = write_image(source.bytes, out, wanted, job.context);
  line->clear();

  if (options.common.json) {
    print_json(job, out, kind, done, source.volumes);
  } else if (!done.stopped) {
    std::ostream& text = job.streams.out;
    text << fmt::format("{}, {} of them stored, written to {} as {}\n",
                        size_text(done.disk_bytes, false), size_text(done.stored_bytes, false),
                        for_terminal(out), kind);
    if (done.resumed) text << "gone on where an earlier run stopped\n";
    if (!done.sha256.empty())
      text << (source.volumes.empty() ? "SHA-256 of the disk: " : "SHA-256 of the copy's disk: ")
           << done.sha256 << '\n';
    const std::uint64_t lost = total(done.unreadable);
    if (lost > 0)
      text << coloured(job.streams, Meaning::damaged,
                       fmt::format("{} could not be read and are zeros; {}.json lists them",
                                   size_text(lost, false), for_terminal(out)))
           << '\n';
    print_findings(job, job.streams.err);
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
  options->common.add_keys_to(command);
  command
      .option("SRC OUT", options->arguments,
              "what to copy (a disk, a volume, a file in one), and the image to write")
      .values(1, 2);
  command
      .option("--as", options->kind, "the kind of image; otherwise by the ending of OUT, else raw")
      .one_of({"raw", "vmdk", "vmdk-stream", "vdi", "vhd", "vhd-fixed", "vhdx", "qcow2",
               "qcow2-compressed", "qcow2-child"});
  command.flag("--no-hash", options->no_hash, "no SHA-256 of the disk");
  command.flag(
      "--compact", options->compact,
      "leave out what the file systems call free; what was deleted is not in the copy then");
  command.flag("--zero-free", options->zero_free,
               "zeros there, also in kinds of image that have no holes");
  command.heading("A disk that fails");
  command.flag("--failing", options->failing,
               "what reads well first, trouble later; the same command goes on where it stopped");
  command.option("--rounds", options->rounds, "how often what failed is tried again (default 2)");
  command.option("--give-up-after", options->give_up_after,
                 "seconds after which a read is given up (default 20)");
  command.flag("--metadata-first", options->metadata_first,
               "the structures of its file systems before all else");
  command.option("--files-first", options->files_first,
                 "files of this shell pattern before all else; repeatable");
  command.option("--join", options->join,
                 "another copy of the same disk, to take what it has; repeatable");
  command.option("--state", options->state, "only show what of the disk this copy has");
  command.option("--picture", options->picture, "draw that to a file, .png or .svg");
  command.footer("Example: lantern image station.vdi station.qcow2");
  return [&job, options] { return make_image(job, *options); };
}

}  // namespace lantern::cli
