#include "lantern/json.h"

#include <algorithm>

#include <fmt/format.h>
#include <utf8.h>

#include <cmath>

#include "lantern/text.h"

namespace lantern {
namespace {

// Rows are at this depth: each on one line, so that a person can read and grep them.
constexpr std::size_t kRowDepth = 2;

}  // namespace

JsonWriter::JsonWriter(std::ostream& out, bool one_line) : out_(out), one_line_(one_line) {}

void JsonWriter::line_break() {
  if (one_line_ || has_members_.size() > kRowDepth) return;
  out_ << '\n';
  for (std::size_t i = 0; i < has_members_.size(); ++i) out_ << "  ";
}

void JsonWriter::before_value() {
  if (after_key_) {
    after_key_ = false;
    return;
  }
  if (has_members_.empty()) return;
  if (has_members_.back()) out_ << (one_line_ || has_members_.size() > kRowDepth ? ", " : ",");
  has_members_.back() = true;
  line_break();
}

void JsonWriter::open(char bracket) {
  before_value();
  out_ << bracket;
  has_members_.push_back(false);
}

void JsonWriter::close(char bracket) {
  const bool had = has_members_.back();
  const bool inline_row = has_members_.size() > kRowDepth;
  has_members_.pop_back();
  if (had && !inline_row) line_break();
  out_ << bracket;
  if (has_members_.empty() && !one_line_) out_ << '\n';
}

JsonWriter& JsonWriter::begin_object() {
  open('{');
  return *this;
}

JsonWriter& JsonWriter::end_object() {
  close('}');
  return *this;
}

JsonWriter& JsonWriter::begin_array() {
  open('[');
  return *this;
}

JsonWriter& JsonWriter::end_array() {
  close(']');
  return *this;
}

JsonWriter& JsonWriter::key(std::string_view name) {
  value(name);
  out_ << ": ";
  after_key_ = true;
  return *this;
}

JsonWriter& JsonWriter::value(std::string_view text) {
  before_value();
  std::string fixed;
  if (!is_valid_utf8(text)) {
    fixed = to_valid_utf8(text);
    text = fixed;
  }
  out_ << '"';
  std::size_t plain_from = 0;
  for (std::size_t i = 0; i < text.size(); ++i) {
    const auto c = static_cast<unsigned char>(text[i]);
    if (c >= 0x20 && c < 0x7F && c != '"' && c != '\\') continue;
    if (c >= 0x80) {
      // Harmless for a reader of JSON, and not for the terminal somebody looks at it on.
      auto end = text.begin() + static_cast<std::ptrdiff_t>(i);
      const std::uint32_t code = utf8::unchecked::next(end);
      const auto next = static_cast<std::size_t>(end - text.begin());
      if (is_control(code) || is_direction_mark(code)) {
        out_ << text.substr(plain_from, i - plain_from) << fmt::format("\\u{:04x}", code);
        plain_from = next;
      }
      i = next - 1;
      continue;
    }
    out_ << text.substr(plain_from, i - plain_from);
    plain_from = i + 1;
    if (c == '"' || c == '\\')
      out_ << '\\' << static_cast<char>(c);
    else if (c == '\n')
      out_ << "\\n";
    else if (c == '\t')
      out_ << "\\t";
    else
      out_ << fmt::format("\\u{:04x}", c);
  }
  out_ << text.substr(plain_from) << '"';
  return *this;
}

JsonWriter& JsonWriter::value(std::uint64_t number) {
  before_value();
  out_ << number;
  return *this;
}

JsonWriter& JsonWriter::value(std::int64_t number) {
  before_value();
  out_ << number;
  return *this;
}

JsonWriter& JsonWriter::value(double number) {
  before_value();
  if (number == std::floor(number) && std::abs(number) < 1e15)
    out_ << static_cast<std::int64_t>(number);
  else
    out_ << fmt::format("{:.6g}", number);
  return *this;
}

JsonWriter& JsonWriter::value(bool yes) {
  before_value();
  out_ << (yes ? "true" : "false");
  return *this;
}

JsonWriter& JsonWriter::null() {
  before_value();
  out_ << "null";
  return *this;
}

JsonWriter& JsonWriter::raw(std::string_view json) {
  before_value();
  out_ << json;
  return *this;
}

namespace {

void write_members(JsonWriter& json, const Finding& finding, Severity severity) {
  json.key("code").value(to_string(finding.code));
  json.key("severity").value(to_string(severity)).key("address").value(finding.address);
  json.key("offset_bytes").value(finding.range.offset);
  json.key("length_bytes").value(finding.range.length);
  json.key("message").value(finding.message).key("done_instead").value(finding.done_instead);
}

}  // namespace

void write_json(JsonWriter& json, const Finding& finding) {
  json.begin_object();
  write_members(json, finding, finding.severity);
  json.key("count").value(1).end_object();
}

void write_json(JsonWriter& json, const FindingGroup& group) {
  constexpr std::size_t kMaxPlaces = 100;
  json.begin_object();
  write_members(json, group.findings.front(), group.severity);
  json.key("count").value(group.count).key("places").begin_array();
  for (std::size_t i = 0; i < std::min(group.findings.size(), kMaxPlaces); ++i) {
    const Range& place = group.findings[i].range;
    json.begin_array().value(place.offset).value(place.length).end_array();
  }
  json.end_array().end_object();
}

}  // namespace lantern
