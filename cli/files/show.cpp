#include <fmt/format.h>

#include <algorithm>
#include <memory>
#include <ostream>

#include "cli/case_log.h"
#include "cli/commands.h"
#include "cli/files/entries.h"

namespace lantern::cli {
namespace {

constexpr std::size_t kMaxExtents = 20;  // printed
constexpr std::size_t kMaxExtentsOfJson = 10'000;
constexpr std::size_t kPiece = 1u << 20;

struct Options {
  CommonOptions common;
  std::string source;
  bool raw = false;
  bool hex = false;
  std::uint64_t bytes = 512;
};

std::string_view kind_of(const Extent& extent) {
  switch (extent.kind) {
    case ExtentKind::direct:
      return "stored";
    case ExtentKind::derived:
      return extent.how == "resident" ? "resident" : "derived";
    case ExtentKind::zero:
    case ExtentKind::unallocated:
      return "zero";
    case ExtentKind::unreadable:
      return "lost";
    case ExtentKind::overlaid:
      return "overlaid";
  }
  return "stored";
}

bool has_content(const Entry& entry) {
  return entry.kind == EntryKind::file || entry.kind == EntryKind::symlink;
}

// All of the content to standard output, lost ranges as zeros.
int print_raw(const Job& job, const Content& content) {
  std::vector<std::byte> piece(kPiece);
  bool whole = content.lost.empty();
  for (std::uint64_t at = 0; at < content.bytes->size();) {
    job.context.check_cancelled();
    const ReadResult got = content.bytes->read(at, piece);
    whole = whole && got.unreadable.empty();
    job.streams.out.write(reinterpret_cast<const char*>(piece.data()),
                          static_cast<std::streamsize>(got.length));
    at += got.length;
    if (got.length == 0) break;
  }
  return whole ? exit_for_findings(job) : kDoneWithFindings;
}

std::vector<std::byte> start_of(const Content& content, std::uint64_t most) {
  std::vector<std::byte> start(
      static_cast<std::size_t>(std::min<std::uint64_t>(most, content.bytes->size())));
  start.resize(content.bytes->read(0, start).length);
  return start;
}

bool is_text(std::span<const std::byte> bytes) {
  const std::string text(reinterpret_cast<const char*>(bytes.data()), bytes.size());
  return text.find('\0') == std::string::npos &&
         std::count_if(text.begin(), text.end(),
                       [](char c) { return static_cast<unsigned char>(c) < 0x09; }) == 0 &&
         is_valid_utf8(std::string_view(text).substr(0, text.find_last_of(" \n") + 1)) &&
         text.find_first_of(" \n") != std::string::npos;
}

void print_start(const Job& job, const Content& content, const Options& options) {
  const auto start = start_of(content, options.bytes);
  if (start.empty()) return;
  std::ostream& out = job.streams.out;
  out << '\n';
  if (options.hex || !is_text(start)) return print_hex(out, start);
  const std::string text(reinterpret_cast<const char*>(start.data()), start.size());
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = std::min(text.find('\n', at), text.size());
    std::string line = text.substr(at, end - at);
    if (line.ends_with('\r')) line.pop_back();
    out << "  " << for_terminal(line) << '\n';
    at = end + 1;
  }
}

// The layers in the order they are met, then a line an extent with its place in each.
void print_extents(const Job& job, const Target& target, const Content& content) {
  std::ostream& out = job.streams.out;
  std::vector<std::string> layers;
  std::vector<std::string> lines;
  bool more = false;
  follow_down(target, *content.bytes, [&](const LayeredExtent& extent) {
    more = lines.size() == kMaxExtents;
    if (more) return false;
    const Range& range = extent.extent.range;
    std::string line =
        fmt::format("{:>14} {:>14}  {:<9}", range.offset, range.length, kind_of(extent.extent));
    for (const LayeredExtent::Place& place : extent.places) {
      const auto at = std::find(layers.begin(), layers.end(), place.address);
      const auto number = static_cast<std::size_t>(at - layers.begin());
      if (at == layers.end()) layers.push_back(place.address);
      line += fmt::format("  {}:{}", static_cast<char>('a' + number % 26), place.offset_bytes);
    }
    lines.push_back(std::move(line));
    return true;
  });
  out << coloured(job.streams, Meaning::quiet,
                  "\n        OFFSET         LENGTH  KIND       BYTE OF EACH LAYER")
      << '\n';
  for (const std::string& line : lines) out << line << '\n';
  if (more) out << "  and more: --json has them all\n";
  for (std::size_t i = 0; i < layers.size(); ++i)
    out << fmt::format("  {:<11} {}\n", fmt::format("layer {}", static_cast<char>('a' + i % 26)),
                       for_terminal(layers[i]));
}

void print_facts(const Job& job, const Target& target, const Entry& entry) {
  std::ostream& out = job.streams.out;
  const auto line = [&](std::string_view what, const std::string& value) {
    if (!value.empty()) out << fmt::format("  {:<11} {}\n", what, value);
  };
  out << coloured(job.streams, Meaning::heading,
                  for_terminal(entry_address(target.volume_layer(), entry).print()))
      << '\n';
  line("path", for_terminal(path_text(entry.path)));
  line("was", for_terminal(entry.original_path));
  line("id", "@" + entry.id);
  line("kind", std::string(to_string(entry.kind)));
  if (entry.device != 0)
    line("device", fmt::format("{},{}", entry.device >> 32, entry.device & 0xFFFFFFFF));
  line("state", std::string(to_string(entry.state)));
  if (has_content(entry))
    line("size", grouped(entry.size_bytes) + " bytes" +
                     (entry.size_bytes < 1024 ? "" : ", " + human_size(entry.size_bytes)));
  line("intact", intact_text(entry.intact));
  line("evidence", for_terminal(entry.evidence));
  const auto time = [&](std::string_view what, const std::optional<Timestamp>& value) {
    if (value) line(what, to_iso8601(*value) + (value->local ? " (local)" : ""));
  };
  time("modified", entry.modified);
  time("created", entry.created);
  time("accessed", entry.accessed);
  time("changed", entry.changed);
  time("deleted", entry.deleted_at);
  if (entry.owner)
    line("owner", fmt::format("{}:{}  {} ({:04o})  {}", entry.owner->user, entry.owner->group,
                              mode_text(entry.owner->mode), entry.owner->mode,
                              counted(entry.links, "name")));
  if (entry.security_id) line("security id", fmt::format("{}", *entry.security_id));
  line("attributes", entry.attributes);
  const FileSystem& files = target.file_system();
  for (const Attribute& attribute : files.attributes(entry))
    line("attribute", fmt::format("{} = {}", for_terminal(attribute.name),
                                  for_terminal(attribute.value.substr(0, 60))));
  for (const Stream& stream : files.streams(entry))
    line("stream", fmt::format("{}, {} bytes", for_terminal(stream.name), stream.size_bytes));
}

void print_earlier(const Job& job, const Target& target, const Options& options) {
  if (!has_content(*target.entry)) return;
  walk_versions(target, {}, options.common.session(job),
                [&](const VolumeLayer& then, const DiskVersion& version, const Entry& entry) {
                  job.streams.out << fmt::format(
                      "  {:<11} {} bytes, modified {}, {}\n", "earlier", grouped(entry.size_bytes),
                      entry.modified ? to_iso8601(*entry.modified) : "?",
                      for_terminal(version_text(entry_address(then, entry), version)));
                });
}

void put_ranges(JsonWriter& json, const char* key, const std::vector<Range>& ranges) {
  json.key(key).begin_array();
  for (const Range& range : ranges)
    json.begin_array().value(range.offset).value(range.length).end_array();
  json.end_array();
}

void put_content(JsonWriter& json, const Target& target, const Content& content,
                 const Options& options) {
  put_ranges(json, "lost", content.lost);
  put_ranges(json, "doubtful", content.doubtful);
  json.key("extents").begin_array();
  std::size_t count = 0;
  follow_down(target, *content.bytes, [&](const LayeredExtent& extent) {
    if (++count > kMaxExtentsOfJson) return false;
    json.begin_object().key("offset_bytes").value(extent.extent.range.offset);
    json.key("length_bytes").value(extent.extent.range.length);
    json.key("kind").value(kind_of(extent.extent)).key("places").begin_array();
    for (const LayeredExtent::Place& place : extent.places)
      json.begin_object()
          .key("layer")
          .value(place.address)
          .key("offset_bytes")
          .value(place.offset_bytes)
          .end_object();
    json.end_array().end_object();
    return true;
  });
  const auto start = start_of(content, options.bytes);
  json.end_array()
      .key("start_base64")
      .value(base64({reinterpret_cast<const char*>(start.data()), start.size()}));
}

void print_json(const Job& job, const Target& target, const Options& options,
                const std::optional<Content>& content) {
  const Entry& entry = *target.entry;
  const FileSystem& files = target.file_system();
  JsonWriter json(job.streams.out);
  json.begin_object().key("entry");
  write_json(json, target.volume_layer(), entry);
  json.key("extended_attributes").begin_array();
  for (const Attribute& attribute : files.attributes(entry))
    json.begin_object()
        .key("name")
        .value(attribute.name)
        .key("value")
        .value(base64(attribute.value))
        .end_object();
  json.end_array().key("streams").begin_array();
  for (const Stream& stream : files.streams(entry))
    json.begin_object()
        .key("name")
        .value(stream.name)
        .key("size_bytes")
        .value(stream.size_bytes)
        .end_object();
  json.end_array();
  json.key("earlier").begin_array();
  if (has_content(entry))
    walk_versions(target, {}, options.common.session(job),
                  [&](const VolumeLayer& then, const DiskVersion&, const Entry& earlier) {
                    write_json(json, then, earlier);
                  });
  json.end_array();
  if (content) put_content(json, target, *content, options);
  findings_json(json, job);
  json.end_object();
}

int show_entry(Job& job, const Options& options) {
  const Address address = options.common.address(options.source);
  const Target target = options.common.session(job).open_volume(address);
  if (!target.entry)
    throw Error(ErrorCode::usage, address.print(), std::nullopt, "names no file or folder",
                "add a path or an id, or use lantern survey for what a disk is");
  const FileSystem& files = target.file_system();
  std::optional<Content> content;
  if (!target.stream.empty() ||
      (has_content(*target.entry) && target.entry->attributes.find('e') == std::string::npos))
    content = files.open(*target.entry, target.stream);
  if (options.raw) {
    if (!content)
      throw Error(ErrorCode::usage, address.print(), std::nullopt,
                  "has no content that can be read");
    return print_raw(job, *content);
  }
  if (options.common.json) {
    print_json(job, target, options, content);
  } else {
    print_choice(job, target);
    print_facts(job, target, *target.entry);
    print_earlier(job, target, options);
    if (content && target.stream.empty() && target.entry->kind == EntryKind::symlink) {
      const auto names = start_of(*content, options.bytes);
      job.streams.out << "  names       "
                      << for_terminal({reinterpret_cast<const char*>(names.data()), names.size()})
                      << '\n';
    } else if (content && content->bytes->size() > 0) {
      print_extents(job, target, *content);
      print_start(job, *content, options);
    }
    print_findings(job, job.streams.err);
  }
  const int code = exit_for_findings(job);
  append_to_case(options.common.case_folder, job, {address.first}, {}, code);
  return code;
}

}  // namespace

Run add_show(OptionParser& parser, Job& job) {
  auto options = std::make_shared<Options>();
  const Command command =
      parser.command("show", "one file: its facts, where it is stored, its first bytes");
  options->common.add_to(command, job);
  options->common.add_keys_to(command);
  command.option("SRC", options->source, "a file or folder, by path or id");
  command.flag("--raw", options->raw, "all of its content to standard output, nothing else");
  command.flag("--hex", options->hex, "its start as numbers, even when it is text");
  command.option("--bytes", options->bytes, "how much of its start, in bytes (512)")
      .between(0, 1 << 20);
  command.footer("Example: lantern show station.vdi::2::/Keeper/log.txt");
  return [&job, options] { return show_entry(job, *options); };
}

}  // namespace lantern::cli
