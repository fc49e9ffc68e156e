#include <fmt/format.h>

#include <charconv>
#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/output.h"

namespace lantern::cli {
namespace {

using namespace repair;

constexpr std::size_t kMaxShown = 40;  // printed; --json has them all

struct Options {
  CommonOptions common;
  std::string a, b;
  std::string range;
};

Range range_of(const std::string& text) {
  const std::size_t colon = text.find(':');
  Range range;
  const auto read = [](std::string_view part, std::uint64_t& value) {
    const auto [end, error] = std::from_chars(part.data(), part.data() + part.size(), value);
    return !part.empty() && error == std::errc() && end == part.data() + part.size();
  };
  if (colon == std::string::npos || !read(std::string_view(text).substr(0, colon), range.offset) ||
      !read(std::string_view(text).substr(colon + 1), range.length))
    throw Error(ErrorCode::usage, {}, std::nullopt, fmt::format("\"{}\" is not a range", text),
                "for example: --range 0:512");
  return range;
}

std::string name_of(const Difference& row) {
  return row.structure + (row.field.empty() ? "" : " " + row.field);
}

// What takes over B's value, to be typed.
std::string copy_command(const Options& options, const Difference& row) {
  if (!row.can_be_taken) return {};
  return fmt::format("lantern repair {} --copy-from {} {}", for_shell(options.a),
                     for_shell(options.b), for_shell(row.structure + "." + row.field));
}

void print_row(const Streams& streams, const Difference& row, const std::string& command) {
  std::ostream& out = streams.out;
  const bool wrong = !row.a_expected.empty() || !row.b_expected.empty();
  out << coloured(streams, wrong ? Meaning::damaged : Meaning::heading,
                  fmt::format("{} {:<7}{}", wrong ? '!' : ' ', to_string(row.weight),
                              for_terminal(name_of(row))))
      << coloured(streams, Meaning::quiet,
                  fmt::format("  byte {}: {}", row.place.offset, row.about))
      << '\n';
  const auto side = [&](char letter, const std::string& value, const std::string& bytes,
                        const std::string& expected) {
    std::string line =
        fmt::format("         {}  {}", letter, value.empty() ? "missing" : for_terminal(value));
    if (bytes != value) line = fmt::format("{:<43} {}", line, bytes);
    out << coloured(streams, expected.empty() ? Meaning::plain : Meaning::damaged, line) << '\n';
    if (!expected.empty())
      out << coloured(streams, Meaning::damaged,
                      fmt::format("            should be {}", for_terminal(expected)))
          << '\n';
  };
  side('A', row.a, row.a_bytes, row.a_expected);
  side('B', row.b, row.b_bytes, row.b_expected);
  if (!command.empty())
    out << coloured(streams, Meaning::quiet, "            " + for_terminal(command)) << '\n';
}

void print_comparison(const Job& job, const Options& options, const Comparison& comparison) {
  const Streams& streams = job.streams;
  std::ostream& out = streams.out;
  out << "A  " << for_terminal(options.a) << "\nB  " << for_terminal(options.b) << "\n\n";
  for (std::size_t i = 0; i < std::min(comparison.rows.size(), kMaxShown); ++i)
    print_row(streams, comparison.rows[i], copy_command(options, comparison.rows[i]));
  if (comparison.rows.size() > kMaxShown)
    out << fmt::format("and {} more: --json has them all\n", comparison.rows.size() - kMaxShown);
  if (!comparison.rows.empty()) out << '\n';
  for (const Difference& row : comparison.identity)
    out << coloured(streams, Meaning::quiet,
                    fmt::format("  identity: {}  A {}  B {}", for_terminal(name_of(row)),
                                for_terminal(row.a), for_terminal(row.b)))
        << '\n';
  out.flush();
  streams.err << fmt::format("{} that may matter, {} of identity, {} the same\n",
                             counted(comparison.rows.size(), "difference"),
                             comparison.identity.size(), counted(comparison.same, "field"));
}

void put_rows(JsonWriter& json, const char* key, const std::vector<Difference>& rows,
              const Options& options) {
  json.key(key).begin_array();
  for (const Difference& row : rows) {
    json.begin_object().key("structure").value(row.structure).key("field").value(row.field);
    json.key("offset_bytes").value(row.place.offset).key("length_bytes").value(row.place.length);
    json.key("a").value(row.a).key("b").value(row.b);
    json.key("a_bytes").value(row.a_bytes).key("b_bytes").value(row.b_bytes);
    json.key("decides").value(to_string(row.weight)).key("about").value(row.about);
    json.key("a_expected");
    row.a_expected.empty() ? json.null() : json.value(row.a_expected);
    json.key("b_expected");
    row.b_expected.empty() ? json.null() : json.value(row.b_expected);
    json.key("take");
    row.can_be_taken ? json.value(copy_command(options, row)) : json.null();
    json.end_object();
  }
  json.end_array();
}

int compare_disks(Job& job, const Options& options) {
  const Address of_a = options.common.address(options.a);
  const Address of_b = options.common.address(options.b);
  const Session session = options.common.session(job);
  const Target a = session.open_disk(of_a);
  const Target b = session.open_disk(of_b);
  const Comparison comparison = options.range.empty()
                                    ? compare_structures(a, b, job.context)
                                    : compare_bytes(a, b, range_of(options.range), job.context);
  if (options.common.json) {
    JsonWriter json(job.streams.out);
    json.begin_object().key("a").value(of_a.print()).key("b").value(of_b.print());
    put_rows(json, "rows", comparison.rows, options);
    put_rows(json, "identity", comparison.identity, options);
    json.key("same").value(comparison.same);
    findings_json(json, job);
    json.end_object();
  } else {
    print_comparison(job, options, comparison);
    print_findings(job, job.streams.err);
  }
  const int code = comparison.rows.empty() ? exit_for_findings(job) : kDoneWithFindings;
  append_to_case(options.common.case_folder, job, {of_a.first, of_b.first}, {}, code);
  return code;
}

}  // namespace

Run add_compare(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command =
      parser.command("compare", "two disks side by side; what keeps one from starting comes first");
  options->common.add_to(command, job);
  command.option("A", options->a, "a disk or a volume").required();
  command.option("B", options->b, "the other, a healthy one of its kind").required();
  command.option("--range", options->range,
                 "raw bytes instead, FROM:LENGTH, of the disk or volume");
  command.footer("Example: lantern compare broken.vdi healthy.vdi");
  return [&job, options] { return compare_disks(job, *options); };
}

}  // namespace lantern::cli
