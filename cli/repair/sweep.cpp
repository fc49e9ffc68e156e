#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <filesystem>
#include <memory>
#include <optional>
#include <ostream>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/output.h"
#include "cli/progress.h"
#include "cli/repair/sweep_summary.h"
#include "cli/repair/sweep_view.h"

namespace lantern::cli {
namespace {

constexpr std::size_t kShownInside = 10;

struct Options {
  CommonOptions common;
  std::string source;
  bool volumes = false;
  bool every_sector = false;
  std::uint64_t from = 0;
  std::string catalog;
  std::string range;
  std::string progress;
  std::string kinds;
  std::string within;
  bool free_space_only = false;
  bool unaligned = false;
  bool part = false;
  std::vector<std::string> signatures;
  std::string since;
};

void put_volumes(JsonWriter& json, const char* key, const std::vector<FoundVolume>& volumes,
                 const Address& disk) {
  json.key(key).begin_array();
  for (const FoundVolume& volume : volumes) {
    json.begin_object().key("address");
    json.value(disk.with({Step::Kind::at, volume.range.offset, {}, {}}).print());
    json.key("start_bytes").value(volume.range.offset);
    json.key("length_bytes").value(volume.range.length);
    json.key("file_system")
        .value(volume.file_system)
        .key("is_read")
        .value(volume.is_read)
        .key("label")
        .value(volume.label);
    json.key("uuid").value(volume.uuid).key("index");
    volume.row == 0 ? json.null() : json.value(volume.row);
    json.key("start_lost").value(volume.start_lost).key("past_end").value(volume.past_end);
    json.key("score").value(std::uint64_t{volume.score}).key("evidence").value(volume.evidence);
    json.end_object();
  }
  json.end_array();
}

void print_json(const Job& job, const VolumeSearch& found, const Address& disk) {
  JsonWriter json(job.streams.out);
  json.begin_object();
  put_volumes(json, "volumes", found.volumes, disk);
  put_volumes(json, "overlapping", found.inside, disk);
  json.key("tables").begin_array();
  for (const FoundTable& table : found.tables)
    json.begin_object()
        .key("offset_bytes")
        .value(table.offset)
        .key("kind")
        .value(table.kind)
        .key("content")
        .value(table.content)
        .end_object();
  json.end_array().key("every_sector").value(found.every_sector);
  json.key("stopped_at_bytes").value(found.stopped_at).key("read_bytes").value(found.read_bytes);
  json.key("unexplained_bytes").value(found.unexplained);
  findings_json(json, job);
  json.end_object();
}

void print_row(const Job& job, const FoundVolume& volume, bool quiet) {
  const std::string line = fmt::format("{:>15}  {:>10}  {:<11}  {:<12}  {:<5}\n{:17}{}",
                                       volume.range.offset, size_text(volume.range.length, false),
                                       volume.file_system, for_terminal(volume.label),
                                       volume.row == 0 ? "none" : fmt::format("{}", volume.row), "",
                                       wrapped(for_terminal(volume.evidence), 17));
  job.streams.out << coloured(job.streams,
                              quiet             ? Meaning::quiet
                              : volume.row == 0 ? Meaning::deleted
                                                : Meaning::plain,
                              line)
                  << '\n';
}

void print_found(const Job& job, const VolumeSearch& found, const Address& disk) {
  std::ostream& out = job.streams.out;
  out << coloured(job.streams, Meaning::quiet,
                  fmt::format("{:>15}  {:>10}  {:<11}  {:<12}  {}", "START", "SIZE", "FILE SYSTEM",
                              "LABEL", "ENTRY"))
      << '\n';
  for (const FoundVolume& volume : found.volumes) print_row(job, volume, false);
  if (found.volumes.empty()) out << "  no volume\n";
  if (!found.inside.empty()) {
    out << "\nOverlapping those, with less to show for it:\n";
    for (std::size_t i = 0; i < std::min(found.inside.size(), kShownInside); ++i)
      print_row(job, found.inside[i], true);
    if (found.inside.size() > kShownInside)
      out << fmt::format("  and {} more; --json has all\n", found.inside.size() - kShownInside);
  }
  bool first = true;
  for (const FoundTable& table : found.tables) {
    if (table.kind != "gpt" && table.kind != "gpt copy" &&
        (table.offset == 0 || table.kind != "mbr"))
      continue;
    if (first) out << "\nTables:\n";
    first = false;
    out << fmt::format("  byte {:>14}  {:<9}  {}\n", table.offset, table.kind, table.content);
  }
  out << '\n'
      << (found.every_sector ? "Every sector that is stored was read."
          : found.read_bytes > 0
              ? fmt::format("Stopped at byte {}: go on with --from {}", found.stopped_at,
                            found.stopped_at)
              : fmt::format(
                    "Looked where volumes usually begin and end; {} are outside of what was "
                    "found.{}",
                    size_text(found.unexplained, false),
                    found.unexplained > 0 ? " --every-sector reads those, too." : ""))
      << '\n';
  bool missing = false;
  for (const FoundVolume& volume : found.volumes) missing = missing || volume.row == 0;
  if (missing)
    out << "\nNext:\n  lantern repair " << for_terminal(disk.print())
        << (found.every_sector ? " --every-sector" : "") << '\n';
}

int find_volumes(Job& job, const Options& options, const Address& address, const DiskLayer& disk) {
  VolumeSearchOptions how;
  how.every_sector = options.every_sector || options.from != 0;
  how.from = options.from;
  const auto line = std::make_shared<ProgressLine>(job.streams.err);
  if (job.streams.err_is_terminal) job.context.progress = line;
  const VolumeSearch found = search_volumes(disk.container.flat, disk.table, how, job.context);
  line->clear();
  if (options.common.json)
    print_json(job, found, disk.address);
  else
    print_found(job, found, disk.address);
  const bool stopped = found.stopped_at < disk.container.flat->size();
  const int code = stopped ? kStopped : exit_for_findings(job);
  append_to_case(options.common.case_folder, job, {address.first}, {}, code);
  return code;
}

// "NAME.catalog" in this folder, of "NAME.img" anywhere.
std::string catalog_of(const Address& address) {
  std::string name = std::filesystem::path(address.first).stem().string();
  if (name.empty() || address.first.starts_with("disk:")) name = address.first.substr(5);
  return name + ".catalog";
}

// "10G..20G", or "3/7": the third of seven parts.
Range range_of(const std::string& text, std::uint64_t disk_bytes) {
  if (text.empty()) return {};
  if (const std::size_t slash = text.find('/'); slash != std::string::npos) {
    const auto number = bytes_of(text.substr(0, slash)), count = bytes_of(text.substr(slash + 1));
    if (!number || !count || *number == 0 || *number > *count)
      throw Error(ErrorCode::usage, {}, std::nullopt, fmt::format("\"{}\" is no part", text),
                  "write --range 3/7 for the third of seven parts");
    return part_of_disk(disk_bytes, *number, *count);
  }
  const std::size_t dots = std::min(text.find(".."), text.size());
  const auto from = bytes_of(text.substr(0, dots));
  const auto to = bytes_of(text.substr(std::min(dots + 2, text.size())));
  if (!to || *to <= from.value_or(0))
    throw Error(ErrorCode::usage, {}, std::nullopt, fmt::format("\"{}\" is no range", text),
                "write --range 10G..20G");
  return {from.value_or(0), *to - from.value_or(0)};
}

std::vector<std::string> kinds_of(const std::string& text) {
  std::vector<std::string> kinds;
  const std::vector<std::string_view> known = sweep_kinds();
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = std::min(text.find(',', at), text.size());
    kinds.push_back(text.substr(at, end - at));
    if (std::find(known.begin(), known.end(), kinds.back()) == known.end())
      throw Error(ErrorCode::usage, {}, std::nullopt,
                  fmt::format("\"{}\" is no kind that a sweep looks for", kinds.back()),
                  fmt::format("it knows {}", fmt::join(known, ", ")));
    at = end + 1;
  }
  return kinds;
}

// Of a volume of the disk, by its number or another step.
Range within(const Session& session, const Address& address, const std::string& step) {
  const Target target = session.open(Address::parse(address.print() + "::" + step));
  if (!target.volume)
    throw Error(ErrorCode::usage, address.print(), std::nullopt,
                fmt::format("\"{}\" is no volume", step), "write --within 2, or a label=NAME");
  return target.volume->row.range;
}

void refuse_unsafe(const Job& job, const Options& options, const Target& target,
                   const std::string& catalog) {
  const std::string folder = std::filesystem::absolute(catalog).parent_path().string();
  for (const std::string& source : bottom_sources(target)) {
    const std::string unsafe =
        why_destination_is_unsafe(*options.common.session(job).options().host, source, folder);
    if (!unsafe.empty())
      throw Error(ErrorCode::refused, catalog, std::nullopt, "cannot hold the catalog: " + unsafe,
                  "choose a folder on another disk with -o");
  }
}

int sweep_source(Job& job, const Options& options) {
  const Address address = options.common.address(options.source);
  const Session& session = options.common.session(job);
  const Target target = session.open_disk(address);
  const DiskLayer& disk = target.disk();
  if (!options.progress.empty() && options.progress != "json")
    throw Error(ErrorCode::usage, {}, std::nullopt,
                fmt::format("\"{}\" is no kind of progress", options.progress),
                "write --progress json");
  if (options.volumes || options.from != 0 || options.every_sector) {
    if (!options.volumes)
      throw Error(ErrorCode::usage, {}, std::nullopt,
                  "--every-sector and --from belong to --volumes",
                  "lantern sweep SRC --volumes --every-sector");
    return find_volumes(job, options, address, disk);
  }
  if (disk.of_catalog)
    throw Error(ErrorCode::usage, address.print(), std::nullopt, "is a catalog: it was swept",
                {Do::list, " shows what was found"});
  SweepOptions how;
  how.catalog = options.catalog.empty() ? catalog_of(address) : options.catalog;
  how.range = range_of(options.range, disk.bytes->size());
  if (!options.within.empty()) {
    if (!options.range.empty())
      throw Error(ErrorCode::usage, {}, std::nullopt, "--within and --range both say what is swept",
                  "give one of them");
    how.range = within(session, address, options.within);
  }
  how.kinds = kinds_of(options.kinds);
  how.free_space_only = options.free_space_only;
  how.since = options.since;
  how.part = options.part;
  how.unaligned = options.unaligned;
  how.signatures = options.signatures;
  refuse_unsafe(job, options, target, how.catalog);
  SweepView view(job.streams);
  view.follow(how, options.progress == "json");

  const SweepSummary done = sweep_to_catalog(disk, how, session, job.context);
  view.clear();
  if (options.common.json)
    print_summary_json(job, done, how.catalog);
  else
    print_summary(job, done, address, how.catalog);
  if (!options.common.json) print_findings(job, job.streams.err);
  const int code = done.done ? exit_for_findings(job) : kStopped;
  append_to_case(options.common.case_folder, job, {address.first}, {{how.catalog, {}}}, code);
  return code;
}

}  // namespace

Run add_sweep(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command =
      parser.command("sweep", "read every sector once: lost volumes and files, into a catalog");
  options->common.add_to(command, job);
  command.option("SRC", options->source, "a disk").required();
  command.option(
      "-o", options->catalog,
      "the catalog; without it NAME.catalog in this folder. One that is there is gone on "
      "with");
  command.option("--range", options->range,
                 "only these bytes of the disk: FROM..TO, or N/M for one of M parts");
  command.flag("--part", options->part,
               "the range is a part that catalog merge joins with the others");
  command.option("--within", options->within, "only this volume of the disk: 2, or label=NAME");
  command.flag("--free-space-only", options->free_space_only,
               "past what the volumes that can be read have in use");
  command.option("--kinds", options->kinds,
                 "look for these only: volumes,ntfs,fat,exfat,ext,content");
  command.flag("--unaligned", options->unaligned,
               "files by their content at every byte, not at the starts of sectors alone");
  command.option("--signatures", options->signatures,
                 "a file that describes further kinds of files (docs/formats/signatures.md)");
  command.option("--since", options->since,
                 "an earlier catalog of this disk: what was read for it is not read again");
  command.option("--progress", options->progress,
                 "json: how far it is, one line of JSON a second on standard error");
  command.flag("--volumes", options->volumes,
               "no catalog: volumes only, first where they usually are, then, if need be, "
               "everywhere");
  command.flag("--every-sector", options->every_sector,
               "with --volumes: everywhere, whatever was found");
  command.option("--from", options->from, "with --volumes: go on at this byte");
  command.footer("Example: lantern sweep broken.img -o broken.catalog");
  return [&job, options] { return sweep_source(job, *options); };
}

}  // namespace lantern::cli
