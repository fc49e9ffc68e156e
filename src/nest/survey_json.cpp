#include "lantern/survey.h"

namespace lantern {

void write_json(JsonWriter& json, const SurveyReport& report) {
  json.key("sources").begin_array();
  for (const SurveySource& source : report.sources)
    json.begin_object()
        .key("address")
        .value(source.address)
        .key("size_bytes")
        .value(source.size_bytes)
        .end_object();
  json.end_array().key("layers").begin_array();
  for (const SurveyLayer& layer : report.layers) {
    json.begin_object().key("address").value(layer.address).key("kind").value(layer.kind);
    json.key("format").value(layer.format).key("size_bytes").value(layer.size_bytes);
    json.key("detail").value(layer.detail).end_object();
  }
  json.end_array().key("volumes").begin_array();
  for (const SurveyVolume& volume : report.volumes) {
    const VolumeRow& row = volume.layer->row;
    const FileSystem* files = volume.layer->file_system().get();
    const std::string none;
    json.begin_object().key("address").value(volume.layer->address.print());
    json.key("index").value(row.number).key("start_bytes").value(row.range.offset);
    json.key("length_bytes").value(row.range.length).key("type").value(row.type);
    json.key("type_code").value(row.type_code).key("table_name").value(row.name);
    json.key("table_uuid").value(row.uuid);
    json.key("file_system").value(files != nullptr ? files->facts().type : none);
    json.key("recognised").value(files == nullptr ? content_of(*volume.layer) : none);
    json.key("alternatives").begin_array();
    for (const std::string& format : volume.layer->alternatives())
      json.value(volume.layer->address.with({Step::Kind::as, 0, format, {}}).print());
    json.end_array();
    json.key("required_key").value(volume.layer->required_key());
    json.key("label").value(files != nullptr ? files->facts().label : none);
    json.key("uuid").value(files != nullptr ? files->facts().uuid : none);
    json.key("used_bytes").value(volume.used_bytes).key("files").value(volume.files);
    json.key("folders").value(volume.folders).key("deleted").value(volume.deleted);
    json.key("deleted_whole").value(volume.deleted_whole);
    json.key("counted_all").value(volume.counted_all);
    json.key("likely_user_files").value(volume.likely_user_files).end_object();
  }
  json.end_array();
  json.key("sets").begin_array();
  for (const SurveySet& set : report.sets) {
    json.begin_object().key("id").value(set.id).key("members").begin_array();
    for (const SetMember& member : set.members) {
      json.begin_object().key("address").value(member.address.print());
      json.key("format").value(member.recognised.format).key("slot");
      member.recognised.slot ? json.value(*member.recognised.slot) : json.null();
      json.end_object();
    }
    json.end_array().end_object();
  }
  json.end_array();
  json.key("chosen");
  report.chosen.empty() ? json.null() : json.value(report.chosen);
  json.key("why").value(report.why);
}

}  // namespace lantern
