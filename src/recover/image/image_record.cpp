#include "recover/image/image_record.h"

#include <cerrno>
#include <cstdio>
#include <cstring>
#include <fstream>
#include <sstream>

#include "base/json_reader.h"
#include "lantern/error.h"
#include "lantern/json.h"

namespace lantern {

void write_image_record(const std::string& path, const ImageRecord& record) {
  std::ostringstream text;
  JsonWriter json(text);
  json.begin_object().key("version").value(1).key("kind").value(to_string(record.kind));
  json.key("source").begin_object().key("size_bytes").value(record.source.size_bytes);
  json.key("sector_size").value(record.source.sector_size);
  json.key("samples_sha256").value(record.source.samples_sha256).end_object();
  json.key("disk_bytes").value(record.summary.disk_bytes);
  json.key("done_bytes").value(record.done_bytes);
  json.key("stored_bytes").value(record.summary.stored_bytes).key("sha256");
  record.summary.sha256.empty() ? json.null() : json.value(record.summary.sha256);
  json.key("unreadable").begin_array();
  for (const Range& range : record.summary.unreadable)
    json.begin_array().value(range.offset).value(range.length).end_array();
  json.end_array().end_object();
  text << '\n';
  const std::string passing = path + ".new";
  std::ofstream file(passing, std::ios::binary | std::ios::trunc);
  file << text.str();
  file.close();
  if (!file || std::rename(passing.c_str(), path.c_str()) != 0)
    throw Error(errno == ENOSPC ? ErrorCode::stopped : ErrorCode::cannot_write, path, std::nullopt,
                std::string("cannot be written: ") + std::strerror(errno),
                "make room or choose another place, and run the same command again");
}

std::optional<ImageRecord> read_image_record(const std::string& path) {
  std::ifstream file(path, std::ios::binary);
  std::ostringstream all;
  all << file.rdbuf();
  const auto json = JsonValue::parse(all.str());
  if (!json) return std::nullopt;
  try {
    ImageRecord record;
    const auto kind = image_kind(json->at("kind").text());
    if (!kind) return std::nullopt;
    record.kind = *kind;
    const JsonValue& source = json->at("source");
    record.source.size_bytes = source.at("size_bytes").number();
    record.source.sector_size = static_cast<std::uint32_t>(source.at("sector_size").number());
    record.source.samples_sha256 = source.at("samples_sha256").text();
    record.done_bytes = json->at("done_bytes").number();
    record.summary.stored_bytes = json->at("stored_bytes").number();
    for (const auto& [name, range] : json->at("unreadable").members())
      record.summary.unreadable.push_back(
          {range.at(std::size_t{0}).number(), range.at(std::size_t{1}).number()});
    return record;
  } catch (const JsonMismatch&) {
    return std::nullopt;
  }
}

}  // namespace lantern
