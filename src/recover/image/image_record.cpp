#include "recover/image/image_record.h"

#include <cerrno>
#include <cstdio>
#include <cstring>
#include <fstream>
#include <nlohmann/json.hpp>
#include <sstream>

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
  const auto json = nlohmann::json::parse(file, nullptr, /*allow_exceptions=*/false);
  try {
    ImageRecord record;
    const auto kind = image_kind(json.at("kind").get<std::string>());
    if (!kind) return std::nullopt;
    record.kind = *kind;
    const auto& source = json.at("source");
    record.source.size_bytes = source.at("size_bytes").get<std::uint64_t>();
    record.source.sector_size = source.at("sector_size").get<std::uint32_t>();
    record.source.samples_sha256 = source.at("samples_sha256").get<std::string>();
    record.done_bytes = json.at("done_bytes").get<std::uint64_t>();
    record.summary.stored_bytes = json.at("stored_bytes").get<std::uint64_t>();
    for (const auto& range : json.at("unreadable"))
      record.summary.unreadable.push_back(
          {range.at(0).get<std::uint64_t>(), range.at(1).get<std::uint64_t>()});
    return record;
  } catch (const nlohmann::json::exception&) {
    return std::nullopt;
  }
}

}  // namespace lantern
