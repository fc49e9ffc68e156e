#include <fmt/format.h>

#include <algorithm>
#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/output.h"

namespace lantern::cli {
namespace {

using namespace repair;

constexpr std::size_t kShownBytes = 8;

struct Options {
  CommonOptions common;
  std::string source;
  std::string what;
  bool hex = false;
};

std::string first_bytes(const Structure& structure, Range place) {
  std::string text;
  const std::uint64_t shown = std::min<std::uint64_t>(place.length, kShownBytes);
  for (std::uint64_t i = 0; i < shown; ++i)
    text += fmt::format(
        "{:02x} ",
        std::to_integer<unsigned>(structure.bytes[static_cast<std::size_t>(place.offset + i)]));
  return place.length > kShownBytes ? text + "..." : text;
}

// Fields of one entry that is not used ("entry3."), as one.
std::vector<Field> with_unused_as_one(const Structure& structure) {
  std::vector<Field> shown;
  const auto group = [](const Field& field) { return field.name.substr(0, field.name.find('.')); };
  const auto nothing = [&](const Field& field) {
    for (std::uint64_t i = field.place.offset; i < field.place.end(); ++i)
      if (structure.bytes[static_cast<std::size_t>(i)] != std::byte{0}) return false;
    return field.expected.empty();
  };
  for (auto from = structure.fields.begin(); from != structure.fields.end();) {
    const auto to = std::find_if(from, structure.fields.end(),
                                 [&](const Field& field) { return group(field) != group(*from); });
    if (to - from > 1 && std::all_of(from, to, nothing)) {
      Field& all = shown.emplace_back();
      all.name = group(*from);
      all.place = {from->place.offset, std::prev(to)->place.end() - from->place.offset};
      all.value = "not used";
    } else {
      shown.insert(shown.end(), from, to);
    }
    from = to;
  }
  return shown;
}

void print_fields(const Streams& streams, const Structure& structure) {
  std::size_t wide = 5;
  const std::vector<Field> fields = with_unused_as_one(structure);
  for (const Field& field : fields) wide = std::max(wide, field.name.size());
  streams.out << coloured(streams, Meaning::quiet,
                          fmt::format("   BYTE  {:<28}{:<{}}  VALUE", "", "FIELD", wide))
              << '\n';
  for (const Field& field : fields) {
    const bool wrong = !field.expected.empty();
    const std::string line =
        fmt::format("{} {:>5}  {:<28}{:<{}}  {}", wrong ? '!' : ' ', field.place.offset,
                    first_bytes(structure, field.place), field.name, wide, field.value);
    streams.out << coloured(streams, wrong ? Meaning::damaged : Meaning::plain, line) << '\n';
    if (wrong)
      streams.out << coloured(streams, Meaning::damaged,
                              fmt::format("{:37}should be {}", "", for_terminal(field.expected)))
                  << '\n';
  }
}

void print_json(const Job& job, const Structure& structure) {
  JsonWriter json(job.streams.out);
  json.begin_object().key("structure").value(structure.name);
  json.key("address").value(structure.address).key("offset_bytes").value(structure.offset);
  json.key("bytes_base64")
      .value(
          base64({reinterpret_cast<const char*>(structure.bytes.data()), structure.bytes.size()}));
  json.key("fields").begin_array();
  for (const Field& field : structure.fields) {
    json.begin_object().key("name").value(field.name);
    json.key("offset_bytes").value(field.place.offset);
    json.key("length_bytes").value(field.place.length);
    json.key("value").value(field.value).key("decides").value(to_string(field.weight));
    json.key("about").value(field.about).key("expected");
    field.expected.empty() ? json.null() : json.value(field.expected);
    json.end_object();
  }
  json.end_array();
  findings_json(json, job);
  json.end_object();
}

int show_sector(Job& job, const Options& options) {
  const Address address = options.common.address(options.source);
  const Target target = options.common.session(job).open_disk(address);
  const Structure structure = read_structure(target, options.what, job.context);
  if (options.common.json) {
    print_json(job, structure);
  } else {
    std::ostream& out = job.streams.out;
    out << coloured(job.streams, Meaning::heading,
                    fmt::format("{}: {}, {} bytes from byte {}", for_terminal(structure.address),
                                structure.name, structure.bytes.size(), structure.offset))
        << "\n\n";
    if (structure.fields.empty() || options.hex)
      print_hex(out, structure.bytes);
    else
      print_fields(job.streams, structure);
    print_findings(job, job.streams.err);
  }
  const int code = exit_for_findings(job);
  append_to_case(options.common.case_folder, job, {address.first}, {}, code);
  return code;
}

}  // namespace

Run add_sector(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command = parser.command("sector", "decode a sector field by field");
  options->common.add_to(command, job);
  command.option("SRC", options->source, "a disk or a volume");
  command.option("WHAT", options->what,
                 "a sector by number, or mbr, loader (the sectors behind it), gpt,\n"
                 "gpt:copy, gpt:entries; boot:N, loader:N and superblock:N of volume N;\n"
                 "mft:N (record N of the volume SRC is)");
  command.flag("--hex", options->hex, "the bytes alone");
  command.footer("Example: lantern sector station.vdi boot:2");
  return [&job, options] {
    if (options->what.empty())
      throw Error(ErrorCode::usage, {}, std::nullopt, "sector needs SRC and WHAT",
                  "for example: lantern sector disk.img mbr");
    return show_sector(job, *options);
  };
}

}  // namespace lantern::cli
