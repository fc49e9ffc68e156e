#include <fmt/format.h>

#include <algorithm>
#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/output.h"
#include "cli/progress.h"

namespace lantern::cli {
namespace {

constexpr std::size_t kShownInside = 10;

struct Options {
  CommonOptions common;
  std::string source;
  bool volumes = false;
  bool every_sector = false;
  std::uint64_t from = 0;
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

int sweep_source(Job& job, const Options& options) {
  if (!options.volumes)
    throw Error(ErrorCode::usage, {}, std::nullopt, "what is to be looked for is not named",
                "lantern sweep SRC --volumes");
  const Address address = options.common.address(options.source);
  const Target target = options.common.session(job).open_disk(address);
  const DiskLayer& disk = target.disk();
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

}  // namespace

Run add_sweep(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command = parser.command("sweep", "scan for lost volumes");
  options->common.add_to(command, job);
  command.option("SRC", options->source, "a disk").required();
  command.flag("--volumes", options->volumes,
               "volumes: first where they usually are, then, if need be, everywhere");
  command.flag("--every-sector", options->every_sector, "everywhere, whatever was found");
  command.option("--from", options->from, "go on at this byte");
  command.footer("Example: lantern sweep broken.img --volumes");
  return [&job, options] { return sweep_source(job, *options); };
}

}  // namespace lantern::cli
