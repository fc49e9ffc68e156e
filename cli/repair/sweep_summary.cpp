#include "cli/repair/sweep_summary.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <map>
#include <ostream>

#include "cli/output.h"

namespace lantern::cli {
namespace {

constexpr std::size_t kShownStructures = 10;

// Files by their content: a row a kind.
void print_content(const Job& job, const SweepSummary& done, const std::string& catalog) {
  struct Row {
    std::uint64_t whole = 0, cut = 0, doubtful = 0, copies = 0, bytes = 0;
  };
  std::map<std::string, Row> rows;
  Row all;
  for (const SweepSummary::Content& each : done.content)
    for (Row* const row : {&rows[each.kind], &all}) {
      (each.grade == "whole" ? row->whole
       : each.grade == "cut" ? row->cut
                             : row->doubtful) += each.count;
      row->copies += each.copies;
      row->bytes += each.bytes;
    }
  if (rows.empty()) return;
  std::ostream& out = job.streams.out;
  const auto print = [&](const std::string& kind, const Row& row) {
    out << fmt::format("  {:<8}  {:>8}  {:>8}  {:>8}  {:>8}  {:>10}\n", kind, row.whole, row.cut,
                       row.doubtful, row.copies, size_text(row.bytes, false));
  };
  out << fmt::format("\nFiles by their content that no volume lists, in {}:\n",
                     for_terminal(catalog + "::content"))
      << coloured(job.streams, Meaning::quiet,
                  fmt::format("  {:<8}  {:>8}  {:>8}  {:>8}  {:>8}  {:>10}", "KIND", "WHOLE", "CUT",
                              "DOUBTFUL", "COPIES", "SIZE"))
      << '\n';
  for (const auto& [kind, row] : rows) print(kind, row);
  print("all", all);
}

void print_structures(const Job& job, const SweepSummary& done) {
  std::ostream& out = job.streams.out;
  for (std::size_t i = 0; i < std::min(done.structures.size(), kShownStructures); ++i) {
    const SweepSummary::Structure& each = done.structures[i];
    if (i == 0) out << "\nAlso found:\n";
    out << fmt::format("  byte {:>14}  {}: {}{}\n", each.range.offset, each.kind, each.format,
                       each.label.empty() ? "" : " " + for_terminal(each.label));
    out << "    " << wrapped(for_terminal(each.evidence), 4) << '\n';
    if (!each.address.empty()) out << "    opens as " << for_shell(each.address) << '\n';
  }
  if (done.structures.size() > kShownStructures)
    out << fmt::format("  and {} more; --json has all\n",
                       done.structures.size() - kShownStructures);
}

}  // namespace

void print_summary_json(const Job& job, const SweepSummary& done, const std::string& catalog) {
  JsonWriter json(job.streams.out);
  json.begin_object().key("catalog").value(catalog).key("done").value(done.done).key("part").value(
      done.part);
  json.key("resumed").value(done.resumed).key("swept_to_bytes").value(done.swept_to);
  json.key("read_bytes").value(done.read_bytes).key("volumes").begin_array();
  for (const SweepSummary::Volume& volume : done.volumes) {
    json.begin_object().key("address").value(volume.address).key("lost").value(volume.lost);
    json.key("headless").value(volume.headless);
    json.key("file_system").value(volume.type).key("label").value(volume.label);
    json.key("start_bytes").value(volume.range.offset);
    json.key("length_bytes").value(volume.range.length);
    json.key("files").value(volume.files).key("deleted").value(volume.deleted);
    json.key("intact").value(volume.intact).key("evidence").value(volume.evidence).end_object();
  }
  json.end_array().key("structures").begin_array();
  for (const SweepSummary::Structure& each : done.structures) {
    json.begin_object().key("kind").value(each.kind).key("format").value(each.format);
    json.key("label").value(each.label).key("start_bytes").value(each.range.offset);
    json.key("length_bytes").value(each.range.length).key("address");
    each.address.empty() ? json.null() : json.value(each.address);
    json.key("evidence").value(each.evidence).end_object();
  }
  json.end_array().key("content").begin_array();
  for (const SweepSummary::Content& each : done.content)
    json.begin_object()
        .key("kind")
        .value(each.kind)
        .key("grade")
        .value(each.grade)
        .key("files")
        .value(each.count)
        .key("further_copies")
        .value(each.copies)
        .key("size_bytes")
        .value(each.bytes)
        .end_object();
  json.end_array();
  findings_json(json, job);
  json.end_object();
}

void print_summary(const Job& job, const SweepSummary& done, const Address& disk,
                   const std::string& catalog) {
  std::ostream& out = job.streams.out;
  if (done.part) {
    out << fmt::format(
        "This part of the disk is swept. When all parts are:\n  lantern catalog merge PART... -o "
        "{}\n",
        for_terminal(std::filesystem::path(disk.first).stem().string() + ".catalog"));
    return;
  }
  if (!done.done) {
    out << fmt::format(
        "Stopped at byte {}. What was found is kept in {};\n"
        "the same command goes on.\n",
        done.swept_to, for_terminal(catalog));
    return;
  }
  out << coloured(job.streams, Meaning::quiet,
                  fmt::format("{:<28}  {:>15}  {:>10}  {:<6}  {:<12}  {:>8}  {:>8}", "VOLUME",
                              "START", "SIZE", "TYPE", "LABEL", "FILES", "DELETED"))
      << '\n';
  for (const SweepSummary::Volume& volume : done.volumes) {
    out << coloured(job.streams, volume.lost ? Meaning::deleted : Meaning::plain,
                    fmt::format("{:<28}  {:>15}  {:>10}  {:<6}  {:<12}  {:>8}  {:>8}",
                                for_terminal(volume.address), volume.range.offset,
                                size_text(volume.range.length, false), volume.type,
                                for_terminal(volume.label), volume.files, volume.deleted))
        << '\n';
    if (volume.lost && !volume.evidence.empty())
      out << "  " << wrapped(for_terminal(volume.evidence), 2) << '\n';
  }
  if (done.volumes.empty()) out << "  no volume that can be read\n";
  print_structures(job, done);
  print_content(job, done, catalog);
  const SweepSummary::Volume* lost = nullptr;  // the one with the most in it
  for (const SweepSummary::Volume& volume : done.volumes)
    if (volume.lost &&
        (lost == nullptr || volume.files + volume.deleted > lost->files + lost->deleted))
      lost = &volume;
  out << fmt::format("\nAll is kept in {}: list, find, show and extract take it as a source.\n",
                     for_terminal(catalog));
  if (lost == nullptr && done.content.empty()) return;
  out << "\nNext:\n";
  const bool any_whole = std::any_of(done.content.begin(), done.content.end(),
                                     [](const auto& each) { return each.grade == "whole"; });
  if (any_whole)
    out << "  lantern extract " << for_shell(catalog + "::content::/whole") << " FOUND\n";
  else if (!done.content.empty())
    out << "  lantern list " << for_shell(catalog + "::content") << '\n';
  if (lost == nullptr) return;
  out << "  lantern list " << for_shell(lost->address) << " --deleted\n";
  // Where no table names a volume, one that does may be made of those whose heads are there.
  const bool any_named = std::any_of(done.volumes.begin(), done.volumes.end(),
                                     [](const auto& volume) { return !volume.lost; });
  const bool any_head = std::any_of(done.volumes.begin(), done.volumes.end(),
                                    [](const auto& volume) { return !volume.headless; });
  if (!any_named && any_head)
    out << "  lantern repair " << for_shell(disk.print()) << " --every-sector\n";
}

}  // namespace lantern::cli
