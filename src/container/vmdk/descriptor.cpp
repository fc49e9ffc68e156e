#include "container/vmdk/descriptor.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <sstream>

#include "base/json_reader.h"
#include "lantern/json.h"
#include "lantern/text.h"

namespace lantern {
namespace {

constexpr std::size_t kMaxExtents = 100'000;
constexpr std::string_view kRecordMark = "# lantern map ";

std::string_view trimmed(std::string_view text) {
  const auto blank = [](char c) { return c == ' ' || c == '\t' || c == '\r' || c == '\0'; };
  while (!text.empty() && blank(text.front())) text.remove_prefix(1);
  while (!text.empty() && blank(text.back())) text.remove_suffix(1);
  return text;
}

std::string unquoted(std::string_view text) {
  text = trimmed(text);
  if (text.size() >= 2 && text.front() == '"' && text.back() == '"')
    text = text.substr(1, text.size() - 2);
  return std::string(text);
}

// "1234" to "00001234"; empty when it is no such number.
std::string content_id(std::string_view text) {
  std::uint32_t value = 0;
  const std::string word = unquoted(text);
  const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), value, 16);
  if (error != std::errc{} || end != word.data() + word.size()) return {};
  return fmt::format("{:08x}", value);
}

std::string_view take_word(std::string_view& text) {
  text = trimmed(text);
  const std::size_t to = std::min(text.find_first_of(" \t"), text.size());
  const std::string_view word = text.substr(0, to);
  text.remove_prefix(to);
  return word;
}

std::optional<std::uint64_t> number(std::string_view word) {
  std::uint64_t value = 0;
  const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), value);
  if (word.empty() || error != std::errc{} || end != word.data() + word.size()) return std::nullopt;
  return value;
}

std::optional<VmdkExtent> extent_of(std::string_view line) {
  VmdkExtent extent;
  extent.access = take_word(line);
  if (extent.access != "RW" && extent.access != "RDONLY" && extent.access != "NOACCESS")
    return std::nullopt;
  const auto sectors = number(take_word(line));
  if (!sectors) return std::nullopt;
  extent.sectors = *sectors;
  extent.kind = take_word(line);
  line = trimmed(line);
  if (line.starts_with('"')) {
    const std::size_t end = line.find('"', 1);
    if (end == std::string_view::npos) return std::nullopt;
    extent.file = line.substr(1, end - 1);
    line.remove_prefix(end + 1);
  }
  extent.first_sector = number(take_word(line)).value_or(0);
  return extent;
}

void take_value(std::string_view key, std::string_view value, VmdkDescriptor& descriptor) {
  if (equal_ignoring_case(key, "version"))
    descriptor.version = static_cast<int>(number(unquoted(value)).value_or(0));
  else if (equal_ignoring_case(key, "CID"))
    descriptor.content_id = content_id(value);
  else if (equal_ignoring_case(key, "parentCID"))
    descriptor.parent_id = content_id(value);
  else if (equal_ignoring_case(key, "createType"))
    descriptor.create_type = unquoted(value);
  else if (equal_ignoring_case(key, "parentFileNameHint"))
    descriptor.parent_name = unquoted(value);
}

std::optional<MapRecord> record_of(std::string_view line) {
  if (!line.starts_with(kRecordMark)) return std::nullopt;
  const auto row = JsonValue::parse(line.substr(kRecordMark.size()));
  if (!row) return std::nullopt;
  try {
    MapRecord record;
    record.disk = row->at("disk").text();
    record.size_bytes = row->at("size_bytes").number();
    record.sector_bytes = static_cast<std::uint32_t>(row->at("sector_bytes").number());
    record.table_id = row->at("table_id").text();
    for (const auto& [name, part] : row->at("partitions").members())
      record.parts.push_back({part.at("number").number(),
                              {part.at("start_bytes").number(), part.at("length_bytes").number()}});
    return record;
  } catch (const JsonMismatch&) {
    return std::nullopt;
  }
}

}  // namespace

std::string map_record_line(const MapRecord& record) {
  std::ostringstream line;
  line << kRecordMark;
  JsonWriter json(line, true);
  json.begin_object().key("disk").value(record.disk).key("size_bytes").value(record.size_bytes);
  json.key("sector_bytes").value(std::uint64_t{record.sector_bytes});
  json.key("table_id").value(record.table_id).key("partitions").begin_array();
  for (const MapRecord::Part& part : record.parts) {
    json.begin_object().key("number").value(part.number);
    json.key("start_bytes").value(part.range.offset);
    json.key("length_bytes").value(part.range.length).end_object();
  }
  json.end_array().end_object();
  return line.str();
}

bool is_vmdk_descriptor(ByteView start) {
  const std::string text = text_of(start);
  const std::string_view head = trimmed(std::string_view(text).substr(0, text.find('\n')));
  constexpr std::string_view kMark = "# Disk DescriptorFile";
  if (head.size() >= kMark.size() && equal_ignoring_case(head.substr(0, kMark.size()), kMark))
    return true;
  // The mark may be damaged: a line that only this kind of file has stands for it.
  return text.find("\ncreateType=\"") != std::string::npos && text.find('\0') == std::string::npos;
}

VmdkDescriptor parse_vmdk_descriptor(std::string_view text) {
  VmdkDescriptor descriptor;
  while (!text.empty()) {
    const std::size_t to = std::min(text.find('\n'), text.size());
    const std::string_view line = trimmed(text.substr(0, to));
    text.remove_prefix(std::min(to + 1, text.size()));
    if (!descriptor.record) descriptor.record = record_of(line);
    if (line.empty() || line.starts_with('#')) continue;
    if (auto extent = extent_of(line)) {
      if (descriptor.extents.size() < kMaxExtents) descriptor.extents.push_back(std::move(*extent));
      continue;
    }
    const std::size_t equals = line.find('=');
    if (equals == std::string_view::npos)
      ++descriptor.lines_not_understood;
    else
      take_value(trimmed(line.substr(0, equals)), line.substr(equals + 1), descriptor);
  }
  if (descriptor.parent_id == "ffffffff") descriptor.parent_id.clear();
  return descriptor;
}

}  // namespace lantern
