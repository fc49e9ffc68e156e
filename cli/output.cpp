#include "cli/output.h"

#include <filesystem>

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <ostream>

namespace lantern::cli {
namespace {

constexpr std::size_t kWidth = 100;  // of a finding's line
constexpr std::size_t kIndent = 9;   // of its further ones

Meaning meaning_of(Severity severity) {
  return severity == Severity::note      ? Meaning::quiet
         : severity == Severity::warning ? Meaning::deleted
                                         : Meaning::damaged;
}

// Without the end of its last line.
void print_first(const Streams& streams, std::ostream& out, const Finding& finding,
                 Severity severity) {
  const std::string message = for_terminal(finding.message);
  const std::string done = for_terminal(finding.done_instead);
  out << coloured(streams, meaning_of(severity), fmt::format("{:<7}", to_string(severity))) << "  "
      << fitted(streams, message, kIndent);
  // On the same line when both fit one.
  if (!done.empty())
    out << (message.size() + done.size() <= kWidth ? "; " : ";\n         ")
        << fitted(streams, done, kIndent);
  out << "\n         " << for_terminal(finding.address);
  if (!finding.range.empty()) out << " at byte " << finding.range.offset;
  out << "  [" << to_string(finding.code) << "]";
}

// The next few places of a group, each once; empty: they have none.
std::string places_of(const FindingGroup& group) {
  constexpr std::size_t kShown = 4;
  std::string places;
  std::size_t shown = 0;
  for (std::size_t i = 1; i < group.findings.size() && shown < kShown; ++i) {
    if (group.findings[i].range.empty()) continue;
    places += fmt::format("{}{}", shown++ == 0 ? "" : ", ", group.findings[i].range.offset);
  }
  return shown == kShown && group.count > kShown + 1 ? places + ", ..." : places;
}

}  // namespace

std::string coloured(const Streams& streams, Meaning meaning, std::string_view text) {
  if (!streams.colour) return std::string(text);
  switch (meaning) {
    case Meaning::plain:
      break;
    case Meaning::quiet:
      return fmt::format("\x1b[2m{}\x1b[0m", text);
    case Meaning::heading:
      return fmt::format("\x1b[1m{}\x1b[0m", text);
    case Meaning::good:
      return fmt::format("\x1b[32m{}\x1b[0m", text);
    case Meaning::deleted:
      return fmt::format("\x1b[33m{}\x1b[0m", text);
    case Meaning::damaged:
      return fmt::format("\x1b[31m{}\x1b[0m", text);
  }
  return std::string(text);
}

std::string size_text(std::uint64_t bytes, bool exact) {
  return exact ? grouped(bytes) : human_size(bytes);
}

std::string time_text(const std::optional<Timestamp>& time) {
  if (!time) return "";
  std::string text = to_iso8601(*time).substr(0, 19);
  text[10] = ' ';
  return text;
}

std::string intact_text(const std::optional<double>& intact) {
  if (!intact) return "?";
  const int percent = static_cast<int>(*intact * 100);
  return fmt::format("{} %", *intact < 1 && percent == 100 ? 99 : percent);
}

void print_findings(const Job& job, std::ostream& out) {
  if (job.all_findings) {
    for (const Finding& finding : job.context.findings->all()) {
      print_first(job.streams, out, finding, finding.severity);
      out << '\n';
    }
    return;
  }
  for (const FindingGroup& group : job.context.findings->groups()) {
    print_first(job.streams, out, group.findings.front(), group.severity);
    if (group.count > 1) {
      out << fmt::format("\n         and {} more like it", grouped(group.count - 1));
      if (const std::string places = places_of(group); !places.empty())
        out << ", at bytes " << places;
      out << " (--findings lists them)";
    }
    out << '\n';
  }
}

std::size_t columns_of(std::string_view text) {
  return static_cast<std::size_t>(std::count_if(text.begin(), text.end(), [](char c) {
    return (static_cast<unsigned char>(c) & 0xC0) != 0x80;  // the first byte of a character
  }));
}

std::string broken_into(std::string_view text, std::size_t indent, std::size_t width) {
  constexpr std::size_t kMinPiece = 20;
  if (width == 0 || indent + columns_of(text) <= width) return std::string(text);
  const std::size_t piece = std::max(kMinPiece, width - std::min(width, indent));
  std::string lines;
  std::size_t column = 0;
  for (const char c : text) {
    const bool starts = (static_cast<unsigned char>(c) & 0xC0) != 0x80;
    if (starts && column == piece) {
      lines += '\n' + std::string(indent, ' ');
      column = 0;
    }
    lines += c;
    if (starts) ++column;
  }
  return lines;
}

std::string wrapped(std::string_view text, std::size_t indent, std::size_t width) {
  std::string lines;
  while (indent < width && indent + text.size() > width) {
    const std::size_t at = text.rfind(' ', width - indent);
    if (at == std::string_view::npos || at == 0) break;
    lines += std::string(text.substr(0, at)) + '\n' + std::string(indent, ' ');
    text.remove_prefix(at + 1);
  }
  return lines + std::string(text);
}

std::string fitted(const Streams& streams, std::string_view text, std::size_t indent) {
  return streams.width == 0 ? std::string(text) : wrapped(text, indent, streams.width);
}

std::string path_from_here(const std::string& path) {
  std::error_code error;
  const std::string near = std::filesystem::proximate(path, error).string();
  return error || near.empty() || near.starts_with("..") ? path : near;
}

void print_hex(std::ostream& out, std::span<const std::byte> bytes, std::uint64_t from) {
  constexpr std::size_t kRow = 16;
  bool skipped = false;
  for (std::size_t at = 0; at < bytes.size(); at += kRow) {
    const auto part = bytes.subspan(at, std::min(kRow, bytes.size() - at));
    // Rows like the one before are left out, but for the last.
    if (at > 0 && at + kRow < bytes.size() &&
        std::equal(part.begin(), part.end(),
                   bytes.begin() + static_cast<std::ptrdiff_t>(at - kRow))) {
      if (!skipped) out << "       ...\n";
      skipped = true;
      continue;
    }
    skipped = false;
    std::string numbers;
    std::string letters;
    for (std::size_t i = 0; i < part.size(); ++i) {
      const auto value = std::to_integer<unsigned>(part[i]);
      numbers += fmt::format("{:02x}{}", value, i == 7 ? "  " : " ");
      letters += value >= 0x20 && value < 0x7F ? static_cast<char>(value) : '.';
    }
    out << fmt::format("  {:>8}  {:<50}{}\n", from + at, numbers, letters);
  }
}

void findings_json(JsonWriter& json, const Job& job) {
  json.key("findings").begin_array();
  if (job.all_findings)
    for (const Finding& finding : job.context.findings->all()) write_json(json, finding);
  else
    for (const FindingGroup& group : job.context.findings->groups()) write_json(json, group);
  json.end_array();
}

void print_choice(const Job& job, const Target& target) {
  if (target.chosen.empty()) return;
  const std::string text = "Reading " + target.chosen + ": " + target.why;
  job.streams.out << fitted(job.streams, for_terminal(text), 2) << "\n\n";
}

std::optional<std::uint64_t> bytes_of(const std::string& text) {
  if (text.empty()) return std::nullopt;
  constexpr std::string_view kUnits = "KMGT";
  std::uint64_t number = 0;
  const char* const end = text.data() + text.size();
  const auto [at, error] = std::from_chars(text.data(), end, number);
  unsigned shift = 0;
  if (at + 1 == end && kUnits.find(*at) != std::string_view::npos)
    shift = 10 * (static_cast<unsigned>(kUnits.find(*at)) + 1);
  if (error != std::errc{} || (at != end && shift == 0) || number > (~std::uint64_t{0} >> shift))
    throw Error(ErrorCode::usage, {}, std::nullopt, fmt::format("\"{}\" is not a size", text),
                "for example: 512, 20K, 4M, 1G");
  return number << shift;
}

}  // namespace lantern::cli
