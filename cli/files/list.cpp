#include <fmt/format.h>

#include <algorithm>
#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/files/entries.h"

namespace lantern::cli {
namespace {

constexpr std::size_t kMaxSorted = 1'000'000;

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
  bool unsorted = false;
  bool verify = false;
  bool all_volumes = false;
  std::string sort = "path";
  std::uint32_t depth = 0;
  std::vector<std::string> patterns;
};

struct Counts {
  std::uint64_t files = 0;
  std::uint64_t folders = 0;
  std::uint64_t deleted = 0;
  std::uint64_t deleted_intact = 0;
  std::uint64_t by_content = 0;  // files
  std::uint64_t by_content_intact = 0;

  void add(const Entry& entry, bool of_content) {
    if (of_content) {
      if (entry.kind == EntryKind::file) ++by_content;
      if (entry.intact == 1) ++by_content_intact;
    } else if (entry.state != EntryState::active) {
      ++deleted;
      if (entry.intact == 1) ++deleted_intact;
    } else if (entry.kind == EntryKind::folder) {
      ++folders;
    } else {
      ++files;
    }
  }
};

bool before(const Entry& a, const Entry& b, const std::string& by) {
  if (by == "size") return a.size_bytes > b.size_bytes;
  return a.modified && (!b.modified || a.modified->seconds > b.modified->seconds);
}

// What walks and what is left out, in both forms of output. By size or time, it is kept until the
// end.
template <typename Use>
void for_each(const Target& target, const Options& options, WalkOrder order, Counts& counts,
              Use use) {
  const bool keeps = !options.unsorted && options.sort != "path";
  std::vector<Entry> kept;
  WalkOptions walk;
  walk.active = !options.deleted_only;
  walk.deleted = options.deleted || options.deleted_only || options.versions;
  walk.versions = options.versions;
  if (options.depth > 0) walk.max_depth = options.depth;
  walk.order = order;
  walk_target(target, walk, [&](const Entry& entry) {
    if (!matches_any(options.patterns, entry.path)) return WalkStep::go_on;
    counts.add(entry, target.file_system().facts().format == "content");
    if (!keeps) {
      use(entry);
    } else {
      if (kept.size() == kMaxSorted)
        throw Error(ErrorCode::usage, target.volume_layer().address.print(), std::nullopt,
                    fmt::format("there are more than {} entries: too many to sort", kMaxSorted),
                    "list a folder of it, or sort by path");
      kept.push_back(entry);
    }
    return WalkStep::go_on;
  });
  std::stable_sort(kept.begin(), kept.end(),
                   [&](const Entry& a, const Entry& b) { return before(a, b, options.sort); });
  for (const Entry& entry : kept) use(entry);
}

WalkOrder order_of(const Options& options, bool by_folder) {
  if (options.unsorted || options.sort != "path") return WalkOrder::as_stored;
  return by_folder ? WalkOrder::by_folder : WalkOrder::by_path;
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

void print_json(const Job& job, const std::vector<Target>& targets, const Options& options) {
  JsonWriter json(job.streams.out);
  Counts counts;
  json.begin_object().key("volume");
  targets.size() == 1 ? json.value(targets.front().volume_layer().address.print()) : json.null();
  json.key("chosen");
  targets.front().chosen.empty() ? json.null() : json.value(targets.front().chosen);
  json.key("entries").begin_array();
  for (const Target& target : targets) {
    const auto checker = checker_for(target, options.verify, job.context);
    for_each(target, options, order_of(options, false), counts,
             [&](const Entry& entry) { write_json(json, target, entry, checker.get()); });
    for_each_earlier(job, target, options,
                     [&](const VolumeLayer& then, const DiskVersion&, const Entry& entry) {
                       write_json(json, then, entry);
                     });
  }
  json.end_array();
  findings_json(json, job);
  json.end_object();
}

void print_rows(const Job& job, const Target& target, const Options& options, Counts& counts) {
  std::ostream& out = job.streams.out;
  RowOptions form;
  form.form = options.tree ? RowForm::tree : options.detailed ? RowForm::detailed : RowForm::plain;
  form.exact = options.exact;
  form.ids = options.ids;
  form.content = options.verify;
  // For people, the path of a folder stands once, above what is in it.
  const WalkOrder order = order_of(options, job.streams.out_is_terminal && !options.tree);
  form.names = order == WalkOrder::by_folder;
  if (target.entry && target.entry->kind == EntryKind::folder)
    form.tree_depth = target.entry->path.size();
  out << coloured(job.streams, Meaning::quiet, row_head(form)) << '\n';
  const auto checker = checker_for(target, options.verify, job.context);
  std::vector<std::string> shown;  // the folder whose path stands above
  for_each(target, options, order, counts, [&](const Entry& entry) {
    if (form.names) {
      const bool folder = entry.kind == EntryKind::folder;
      std::vector<std::string> own = entry.path;
      if (!folder) own.pop_back();
      if (!folder && own != shown)
        out << coloured(job.streams, Meaning::quiet,
                        for_terminal(own.empty() ? "/" : path_text(own) + "/"))
            << '\n';
      shown = std::move(own);
    }
    with_check(checker.get(), entry, [&](const Entry& known, const ContentCheck& check) {
      out << row(job.streams, target.volume_layer(), known, form, check) << '\n';
    });
  });
  std::string version_shown;
  form.names = false;
  for_each_earlier(job, target, options,
                   [&](const VolumeLayer& then, const DiskVersion& version, const Entry& entry) {
                     if (version_shown != version.id)
                       out << coloured(job.streams, Meaning::heading,
                                       for_terminal(version_text(then.address, version)))
                           << '\n';
                     version_shown = version.id;
                     out << row(job.streams, then, entry, form) << '\n';
                   });
}

void print_counts(const Job& job, const Options& options, const Counts& counts) {
  std::string sum;
  const bool none = counts.by_content > 0 && counts.files + counts.folders + counts.deleted == 0;
  if (!options.deleted_only && !none)
    sum = counted(counts.files, "file") + ", " + counted(counts.folders, "folder");
  if ((options.deleted || options.deleted_only || options.versions || counts.deleted > 0) && !none)
    sum += fmt::format("{}{} deleted, {} of them intact", sum.empty() ? "" : "; ", counts.deleted,
                       counts.deleted_intact);
  if (counts.by_content > 0)
    sum += fmt::format("{}{} found by content, {} of them whole", sum.empty() ? "" : "; ",
                       counted(counts.by_content, "file"), counts.by_content_intact);
  job.streams.out.flush();
  job.streams.err << sum << '\n';
}

int list_entries(Job& job, const Options& options) {
  const Address address = options.common.address(options.source);
  const Session& session = options.common.session(job);
  const bool all = means_every_volume(options.all_volumes, address);
  const std::vector<Target> targets =
      all ? every_volume(address, session) : std::vector<Target>{session.open_volume(address)};
  if (options.common.json) {
    print_json(job, targets, options);
  } else {
    print_choice(job, targets.front());
    Counts counts;
    for (const Target& target : targets) {
      if (&target != &targets.front()) job.streams.out << '\n';
      if (all)
        job.streams.out << coloured(job.streams, Meaning::heading,
                                    for_terminal(target.volume_layer().address.print()))
                        << '\n';
      print_rows(job, target, options, counts);
    }
    print_counts(job, options, counts);
    print_findings(job, job.streams.err);
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
  options->common.add_keys_to(command);
  command.option("SRC", options->source, "a disk, a volume or a folder in it");
  command.flag("--deleted", options->deleted, "deleted entries too");
  command.flag("--deleted-only", options->deleted_only, "deleted entries alone");
  command.flag("--all-versions", options->versions,
               "deleted entries, earlier contents of files, and what differs in the shadow\n"
               "copies of the volume");
  command.option("--match", options->patterns,
                 "only names (or paths, with a '/') of this shell pattern; repeatable");
  command.option("--depth", options->depth, "only so many folders deep");
  command.flag("--exact", options->exact, "sizes in bytes");
  command.flag("--ids", options->ids, "the id of each entry, for extract --id");
  command.flag("--long", options->detailed, "mode, links, owner and time of creation too");
  command.flag("--tree", options->tree, "names indented by their folder");
  command
      .option("--sort", options->sort,
              "path (as without it), size (largest first), modified (newest first)")
      .one_of({"path", "size", "modified"});
  command.flag("--verify", options->verify,
               "read the contents, and check them by their own checksums and structure");
  command.flag("--unsorted", options->unsorted, "as the volume stores them, none held back");
  command.flag("--all-volumes", options->all_volumes, "every volume of the disk that can be read");
  command.footer("Example: lantern list station.vdi::2::/Photographs --deleted");
  return [&job, options] { return list_entries(job, *options); };
}

}  // namespace lantern::cli
