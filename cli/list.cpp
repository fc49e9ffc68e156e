#include <fmt/format.h>

#include <algorithm>
#include <iterator>
#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/output.h"

namespace lantern::cli {
namespace {

struct Options {
  CommonOptions common;
  std::string source;
  bool deleted = false;
  bool deleted_only = false;
  bool exact = false;
  bool ids = false;
  std::uint32_t depth = 0;
  std::vector<std::string> patterns;
};

struct Counts {
  std::uint64_t files = 0;
  std::uint64_t folders = 0;
  std::uint64_t deleted = 0;
  std::uint64_t deleted_whole = 0;
};

Address entry_address(const Target& target, const Entry& entry) {
  return target.volume_view().address.with(
      entry.state == EntryState::active ? path_step(entry.path) : entry_step(entry.id));
}

// What walks and what is left out, in both forms of output.
template <typename Use>
Counts for_each(const Target& target, const Options& options, Use use) {
  Counts counts;
  WalkOptions walk;
  walk.active = !options.deleted_only;
  walk.deleted = options.deleted || options.deleted_only;
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
    use(entry);
    return WalkStep::go_on;
  });
  return counts;
}

void print_json(const Session& session, const Target& target, const Options& options) {
  JsonWriter json(session.streams.out);
  const std::string volume = target.volume_view().address.print();
  json.begin_object().key("volume").value(volume).key("chosen");
  target.chosen.empty() ? json.null() : json.value(target.chosen);
  json.key("entries").begin_array();
  const auto put_time = [&](const char* key, const std::optional<Timestamp>& time) {
    json.key(key);
    time ? json.value(to_iso8601(*time)) : json.null();
  };
  for_each(target, options, [&](const Entry& entry) {
    const std::string path = path_text(entry.path);
    json.begin_object().key("address").value(entry_address(target, entry).print());
    json.key("id").value(entry.id).key("volume").value(volume).key("path").value(path);
    if (!is_valid_utf8(path)) json.key("path_bytes").value(base64(path));
    json.key("kind").value(to_string(entry.kind)).key("state").value(to_string(entry.state));
    json.key("size_bytes").value(entry.size_bytes);
    put_time("modified", entry.modified);
    put_time("created", entry.created);
    put_time("accessed", entry.accessed);
    json.key("attributes").value(entry.attributes).key("intact");
    entry.intact ? json.value(*entry.intact) : json.null();
    json.key("evidence").value(entry.evidence).end_object();
  });
  json.end_array();
  findings_json(json, session.context);
  json.end_object();
}

void print_rows(const Session& session, const Target& target, const Options& options) {
  std::ostream& out = session.streams.out;
  out << coloured(
             session.streams, Meaning::quiet,
             fmt::format("{:<8}{:>6}  {:>{}}  {:<19}  {}PATH", "STATE", "WHOLE", "SIZE",
                         options.exact ? 14 : 10, "MODIFIED", options.ids ? "ID          " : ""))
      << '\n';
  fmt::memory_buffer line;
  const Counts counts = for_each(target, options, [&](const Entry& entry) {
    line.clear();
    const bool folder = entry.kind == EntryKind::folder;
    fmt::format_to(std::back_inserter(line), "{:<8}{:>6}  {:>{}}  {:<19}  ", to_string(entry.state),
                   intact_text(entry.intact),
                   folder ? std::string("folder") : size_text(entry.size_bytes, options.exact),
                   options.exact ? 14 : 10, time_text(entry.modified));
    if (options.ids) fmt::format_to(std::back_inserter(line), "{:<12}", "@" + entry.id);
    fmt::format_to(std::back_inserter(line), "{}{}", for_terminal(path_text(entry.path)),
                   folder ? "/" : "");
    const std::string_view text(line.data(), line.size());
    const bool whole = entry.intact.value_or(0) == 1;
    if (session.streams.colour)
      out << coloured(session.streams,
                      !whole                              ? Meaning::damaged
                      : entry.state != EntryState::active ? Meaning::deleted
                                                          : Meaning::plain,
                      text);
    else
      out << text;
    out << '\n';
  });
  out.flush();
  std::string sum;
  if (!options.deleted_only)
    sum = counted(counts.files, "file") + ", " + counted(counts.folders, "folder");
  if (options.deleted || options.deleted_only)
    sum += fmt::format("{}{} deleted, {} of them whole", sum.empty() ? "" : "; ", counts.deleted,
                       counts.deleted_whole);
  session.streams.err << sum;
  session.streams.err << '\n';
}

int list_entries(Session& session, const Options& options) {
  const Address address = options.common.address(options.source);
  const Target target = open_volume_target(address, options.common.open_options(), session.context);
  if (options.common.json) {
    print_json(session, target, options);
  } else {
    print_choice(session.streams, target);
    print_rows(session, target, options);
    print_findings(session.streams, session.streams.err, session.context);
  }
  const int code = exit_for_findings(session);
  append_to_case(options.common.case_folder, session, {address.first}, {}, code);
  return code;
}

}  // namespace

Action add_list(CLI::App& app, Session& session) {
  auto options = std::make_shared<Options>();
  CLI::App* command =
      app.add_subcommand("list", "files and folders, with what was deleted if asked");
  options->common.add_to(*command);
  command->add_option("SRC", options->source, "a disk, a volume or a folder in it");
  command->add_flag("--deleted", options->deleted, "deleted entries too");
  command->add_flag("--deleted-only", options->deleted_only, "deleted entries alone");
  command->add_option("--match", options->patterns,
                      "only names (or paths, with a '/') of this shell pattern; repeatable");
  command->add_option("--depth", options->depth, "only so many folders deep");
  command->add_flag("--exact", options->exact, "sizes in bytes");
  command->add_flag("--ids", options->ids, "the id of each entry, for extract --id");
  command->footer("Example: lantern list station.vdi::2::/Photographs --deleted");
  return [&session, options] { return list_entries(session, *options); };
}

}  // namespace lantern::cli
