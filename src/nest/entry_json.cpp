#include <fmt/format.h>

#include "lantern/nest/target.h"
#include "lantern/text.h"

namespace lantern {

Address entry_address(const VolumeLayer& volume, const Entry& entry) {
  return volume.address.with(entry.state == EntryState::active ? path_step(entry.path)
                                                               : entry_step(entry.id));
}

void write_json(JsonWriter& json, const VolumeLayer& volume, const Entry& entry,
                const std::function<void(JsonWriter&)>& more) {
  const auto put_time = [&](const char* key, const std::optional<Timestamp>& time) {
    json.key(key);
    time ? json.value(to_iso8601(*time)) : json.null();
  };
  const std::string path = path_text(entry.path);
  json.begin_object().key("address").value(entry_address(volume, entry).print());
  json.key("id").value(entry.id).key("volume").value(volume.address.print());
  json.key("path").value(path);
  if (!is_valid_utf8(path)) json.key("path_bytes").value(base64(path));
  json.key("kind").value(to_string(entry.kind)).key("state").value(to_string(entry.state));
  json.key("size_bytes").value(entry.size_bytes);
  put_time("modified", entry.modified);
  put_time("created", entry.created);
  put_time("accessed", entry.accessed);
  put_time("changed", entry.changed);
  if (entry.deleted_at) put_time("deleted_at", entry.deleted_at);
  if (!entry.original_path.empty()) json.key("original_path").value(entry.original_path);
  if (entry.owner) {
    json.key("user").value(entry.owner->user).key("group").value(entry.owner->group);
    json.key("mode").value(fmt::format("{:04o}", entry.owner->mode));
  }
  if (entry.security_id) json.key("security_id").value(*entry.security_id);
  json.key("links").value(entry.links);
  if (entry.device != 0)
    json.key("device").value(fmt::format("{},{}", entry.device >> 32, entry.device & 0xFFFFFFFF));
  json.key("attributes").value(entry.attributes).key("intact");
  entry.intact ? json.value(*entry.intact) : json.null();
  json.key("evidence").value(entry.evidence);
  if (more) more(json);
  json.end_object();
}

}  // namespace lantern
