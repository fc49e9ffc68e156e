#include <fmt/format.h>

#include <algorithm>
#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/files/entries.h"

namespace lantern::cli {
namespace {

constexpr std::size_t kMostSorted = 1'000'000;

struct Options {
  CommonOptions common;
  std::string source;
  bool deleted = false;
  bool deleted_only = false;
  bool versions = false;
  bool exact = false;
  bool ids = false;
  bool detailed = false;
  bool tree = false;
  std::string sort;
  std::uint32_t depth = 0;
  std::vector<std::string> patterns;
};

struct Counts {
  std::uint64_t files = 0;
  std::uint64_t folders = 0;
  std::uint64_t deleted = 0;
  std::uint64_t deleted_whole = 0;
};

bool before(const Entry& a, const Entry& b, const std::string& by) {
  if (by == "size") return a.size_bytes > b.size_bytes;
  if (by == "modified")
    return a.modified && (!b.modified || a.modified->seconds > b.modified->seconds);
  return a.path < b.path;
}

// What walks and what is left out, in both forms of output. Sorted output is kept until the end.
template <typename Use>
Counts for_each(const Target& target, const Options& options, Use use) {
  Counts counts;
  std::vector<Entry> kept;
  WalkOptions walk;
  walk.active = !options.deleted_only;
  walk.deleted = options.deleted || options.deleted_only || options.versions;
  walk.versions = options.versions;
  if (options.depth > 0) walk.max_depth = options.depth;
  walk_target(target, walk, [&](const Entry& entry) {
    if (!matches_any(options.patterns, entry.path)) return WalkStep::go_on;
    if (entry.state != EntryState::active) {
      ++counts.deleted;
      if (entry.intact == 1) ++counts.deleted_whole;
    } else if (entry.kind == EntryKind::folder) {
      ++counts.folders;
    } else {
      ++counts.files;
    }
    if (options.sort.empty()) {
      use(entry);
    } else {
      if (kept.size() == kMostSorted)
        throw Error(ErrorCode::usage, target.volume_layer().address.print(), std::nullopt,
                    fmt::format("there are more than {} entries: too many to sort", kMostSorted),
                    "list a folder of it, or leave --sort out");
      kept.push_back(entry);
    }
    return WalkStep::go_on;
  });
  std::stable_sort(kept.begin(), kept.end(),
                   [&](const Entry& a, const Entry& b) { return before(a, b, options.sort); });
  for (const Entry& entry : kept) use(entry);
  return counts;
}

void for_each_earlier(const Job& job, const Target& target, const Options& options,
                      const VersionVisitor& use) {
  if (!options.versions) return;
  WalkOptions walk;
  if (options.depth > 0) walk.max_depth = options.depth;
  walk_versions(target, walk, options.common.session(job),
                [&](const VolumeLayer& then, const DiskVersion& version, const Entry& entry) {
                  if (matches_any(options.patterns, entry.path)) use(then, version, entry);
                });
}

void print_json(const Job& job, const Target& target, const Options& options) {
  JsonWriter json(job.streams.out);
  json.begin_object().key("volume").value(target.volume_layer().address.print()).key("chosen");
  target.chosen.empty() ? json.null() : json.value(target.chosen);
  json.key("entries").begin_array();
  for_each(target, options,
           [&](const Entry& entry) { write_json(json, target.volume_layer(), entry); });
  for_each_earlier(job, target, options,
                   [&](const VolumeLayer& then, const DiskVersion&, const Entry& entry) {
                     write_json(json, then, entry);
                   });
  json.end_array();
  findings_json(json, job.context);
  json.end_object();
}

void print_rows(const Job& job, const Target& target, const Options& options) {
  std::ostream& out = job.streams.out;
  RowOptions form;
  form.form = options.tree ? RowForm::tree : options.detailed ? RowForm::detailed : RowForm::plain;
  form.exact = options.exact;
  form.ids = options.ids;
  if (target.entry && target.entry->kind == EntryKind::folder)
    form.tree_depth = target.entry->path.size();
  out << coloured(job.streams, Meaning::quiet, row_head(form)) << '\n';
  const Counts counts = for_each(target, options, [&](const Entry& entry) {
    out << row(job.streams, target.volume_layer(), entry, form) << '\n';
  });
  std::string shown;
  for_each_earlier(job, target, options,
                   [&](const VolumeLayer& then, const DiskVersion& version, const Entry& entry) {
                     if (shown != version.id)
                       out << coloured(job.streams, Meaning::heading,
                                       for_terminal(version_text(then.address, version)))
                           << '\n';
                     shown = version.id;
                     out << row(job.streams, then, entry, form) << '\n';
                   });
  out.flush();
  std::string sum;
  if (!options.deleted_only)
    sum = counted(counts.files, "file") + ", " + counted(counts.folders, "folder");
  if (options.deleted || options.deleted_only || options.versions || counts.deleted > 0)
    sum += fmt::format("{}{} deleted, {} of them whole", sum.empty() ? "" : "; ", counts.deleted,
                       counts.deleted_whole);
  job.streams.err << sum << '\n';
}

int list_entries(Job& job, const Options& options) {
  const Address address = options.common.address(options.source);
  const Target target = options.common.session(job).open_volume(address);
  if (options.common.json) {
    print_json(job, target, options);
  } else {
    print_choice(job.streams, target);
    print_rows(job, target, options);
    print_findings(job.streams, job.streams.err, job.context);
  }
  const int code = exit_for_findings(job);
  append_to_case(options.common.case_folder, job, {address.first}, {}, code);
  return code;
}

}  // namespace

Run add_list(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command =
      parser.command("list", "files and folders, with what was deleted if asked");
  options->common.add_to(command, job);
  command.option("SRC", options->source, "a disk, a volume or a folder in it");
  command.flag("--deleted", options->deleted, "deleted entries too");
  command.flag("--deleted-only", options->deleted_only, "deleted entries alone");
  command.flag("--all-versions", options->versions,
               "deleted entries, what files held before, and what differs in the earlier\n"
               "versions the volume keeps (shadow copies)");
  command.option("--match", options->patterns,
                 "only names (or paths, with a '/') of this shell pattern; repeatable");
  command.option("--depth", options->depth, "only so many folders deep");
  command.flag("--exact", options->exact, "sizes in bytes");
  command.flag("--ids", options->ids, "the id of each entry, for extract --id");
  command.flag("--long", options->detailed, "mode, links, owner and time of creation too");
  command.flag("--tree", options->tree, "names indented by their folder");
  command.option("--sort", options->sort, "path, size (largest first), modified (newest first)")
      .one_of({"path", "size", "modified"});
  command.footer("Example: lantern list station.vdi::2::/Photographs --deleted");
  return [&job, options] { return list_entries(job, *options); };
}

}  // namespace lantern::cli
