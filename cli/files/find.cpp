#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/files/entries.h"

namespace lantern::cli {
namespace {

struct Options {
  CommonOptions common;
  std::string source;
  std::vector<std::string> names;
  std::string expression;
  std::string larger;
  std::string smaller;
  std::string after;
  std::string before;
  std::vector<std::string> kinds;
  bool deleted = false;
  bool deleted_only = false;
  double min_intact = 0;
  bool unsorted = false;
  bool verify = false;
  bool touches_unreadable = false;
  bool exact = false;
};

// "2026-03-14" or "2026-03-14T08:30:02".
std::optional<std::int64_t> seconds_of_text(const std::string& text) {
  if (text.empty()) return std::nullopt;
  int parts[6] = {0, 1, 1, 0, 0, 0};
  constexpr std::string_view kBetween = "--T::";
  const char* at = text.data();
  const char* const end = at + text.size();
  std::size_t part = 0;
  for (;; ++part) {
    const auto read = std::from_chars(at, end, parts[part]);
    at = read.ptr;
    if (read.ec != std::errc{} || at == end || part == 5 || *at != kBetween[part]) break;
    ++at;
  }
  const auto seconds = seconds_of(parts[0], parts[1], parts[2], parts[3], parts[4], parts[5]);
  if (at != end || part < 2 || !seconds)
    throw Error(ErrorCode::usage, {}, std::nullopt, fmt::format("\"{}\" is not a date", text),
                "for example: 2026-03-14 or 2026-03-14T08:30:00");
  return seconds;
}

int find_entries(Job& job, const Options& options) {
  SearchOptions wanted;
  wanted.patterns = options.names;
  wanted.expression = options.expression;
  wanted.least_bytes = bytes_of(options.larger);
  wanted.most_bytes = bytes_of(options.smaller);
  wanted.modified_from = seconds_of_text(options.after);
  wanted.modified_to = seconds_of_text(options.before);
  wanted.kinds = options.kinds;
  wanted.active = !options.deleted_only;
  wanted.deleted = options.deleted || options.deleted_only;
  wanted.touches_unreadable = options.touches_unreadable;
  wanted.least_intact = options.min_intact / 100;
  wanted.order = options.unsorted ? WalkOrder::as_stored : WalkOrder::by_path;
  const Address address = options.common.address(options.source);
  const auto targets = every_volume(address, options.common.session(job));
  std::ostream& out = job.streams.out;
  std::uint64_t found = 0;
  const auto each = [&](const auto& use) {
    for (const Target& target : targets) {
      const auto checker = checker_for(target, options.verify, job.context);
      search(target, wanted, [&](const Entry& entry) {
        ++found;
        use(target, entry, checker.get());
        return true;
      });
    }
  };
  if (options.common.json) {
    JsonWriter json(out);
    json.begin_object().key("entries").begin_array();
    each([&](const Target& target, const Entry& entry, EntryChecker* checker) {
      write_json(json, target, entry, checker);
    });
    json.end_array();
    findings_json(json, job);
    json.end_object();
  } else {
    RowOptions form;
    form.exact = options.exact;
    form.addresses = true;
    form.content = options.verify;
    each([&](const Target& target, const Entry& entry, EntryChecker* checker) {
      if (found == 1) out << coloured(job.streams, Meaning::quiet, row_head(form)) << '\n';
      with_check(checker, entry, [&](const Entry& known, const ContentCheck& check) {
        out << row(job.streams, target.volume_layer(), known, form, check) << '\n';
      });
    });
    out.flush();
    job.streams.err << found << " found\n";
    print_findings(job, job.streams.err);
  }
  const int code = exit_for_findings(job);
  append_to_case(options.common.case_folder, job, {address.first}, {}, code);
  return code;
}

}  // namespace

Run add_find(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command =
      parser.command("find", "entries by name, size, date, kind, in every volume of a disk");
  options->common.add_to(command, job);
  options->common.add_keys_to(command);
  command.option("SRC", options->source, "a disk, a volume or a folder in it");
  command.option("--match", options->names,
                 "only names (or paths, with a '/') of this shell pattern; repeatable");
  command.option("--regex", options->expression, "only paths with this regular expression");
  command.option("--larger", options->larger, "of this size or more: 512, 20K, 4M, 1G");
  command.option("--smaller", options->smaller, "of this size or less");
  command.option("--after", options->after, "modified on this date or later: 2026-03-14");
  command.option("--before", options->before, "modified before this date");
  command.option("--kind", options->kinds,
                 "only this kind, by content: picture, document, jpg, pdf, ...; repeatable");
  command.flag("--deleted", options->deleted, "deleted entries too");
  command.flag("--deleted-only", options->deleted_only, "deleted entries alone");
  command.option("--min-intact", options->min_intact, "only when so much is intact, in percent")
      .between(0.0, 100.0);
  command.flag("--touches-unreadable", options->touches_unreadable,
               "only files that lost a part: of a copy of a failing disk what was not read");
  command.flag("--verify", options->verify,
               "read the contents, and check them by their own checksums and structure");
  command.flag("--unsorted", options->unsorted, "as the volumes store them, none held back");
  command.flag("--exact", options->exact, "sizes in bytes");
  command.footer("Example: lantern find station.vdi --kind jpg --deleted --min-intact 50");
  return [&job, options] { return find_entries(job, *options); };
}

}  // namespace lantern::cli
