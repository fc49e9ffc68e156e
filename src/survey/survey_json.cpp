#include "lantern/survey.h"

namespace lantern {
namespace {

void write_starts(JsonWriter& json, const SurveyReport& report) {
  json.key("start_chains").begin_array();
  for (const SurveyStart& start : report.starts) {
    json.begin_object().key("address").value(start.address);
    json.key("firmware").value(to_string(start.chain.firmware));
    json.key("verdict").value(to_string(start.chain.verdict())).key("links").begin_array();
    for (const StartLink& link : start.chain.links) {
      json.begin_object().key("name").value(link.name).key("state").value(to_string(link.state));
      json.key("what").value(link.what).key("address").value(link.address);
      json.key("offset_bytes").value(link.offset_bytes).key("cure").value(link.cure).end_object();
    }
    json.end_array().end_object();
  }
  json.end_array();
}

void write_texts(JsonWriter& json, const char* key, const std::vector<std::string>& texts) {
  json.key(key).begin_array();
  for (const std::string& text : texts) json.value(text);
  json.end_array();
}

}  // namespace

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
    json.key("listed").value(volume.listed);
    json.key("index").value(row.number).key("start_bytes");
    // Of a volume that spans disks there is no one place.
    row.spans ? json.null() : json.value(row.range.offset);
    json.key("member_of").value(volume.member_of);
    json.key("state").value(volume.removed ? "removed" : "active");
    json.key("machine").value(volume.machine).key("machine_why").value(volume.machine_why);
    json.key("length_bytes").value(row.range.length).key("type").value(row.type);
    json.key("type_code").value(row.type_code).key("table_name").value(row.name);
    json.key("table_uuid").value(row.uuid);
    json.key("file_system").value(files != nullptr ? files->facts().type : none);
    json.key("recognised").value(files == nullptr ? volume.content : none);
    json.key("alternatives").begin_array();
    for (const std::string& format : volume.layer->alternatives())
      json.value(volume.layer->address.with({Step::Kind::as, 0, format, {}}).print());
    json.end_array();
    json.key("required_key").value(volume.layer->required_key());
    const auto& owner = volume.layer->owner();
    json.key("label").value(files != nullptr ? files->facts().label : owner ? owner->label : none);
    json.key("uuid").value(files != nullptr ? files->facts().uuid : owner ? owner->uuid : none);
    json.key("set_id").value(files == nullptr && owner ? owner->set_id : none).key("slot");
    files == nullptr&& owner && owner->slot ? json.value(*owner->slot) : json.null();
    json.key("used_bytes").value(volume.used_bytes).key("files").value(volume.files);
    json.key("folders").value(volume.folders).key("deleted").value(volume.deleted);
    json.key("deleted_intact").value(volume.deleted_intact);
    json.key("incomplete").value(volume.incomplete);
    json.key("machine_configs").value(volume.machine_configs);
    json.key("disk_images").value(volume.disk_images);
    json.key("deleted_of_machines").value(volume.deleted_of_machines);
    json.key("counted_all").value(volume.counted_all);
    json.key("likely_user_files").value(volume.likely_user_files).end_object();
  }
  json.end_array();
  json.key("unallocated").begin_array();
  for (const SurveySpace& space : report.spaces)
    json.begin_object()
        .key("address")
        .value(space.address)
        .key("start_bytes")
        .value(space.range.offset)
        .key("length_bytes")
        .value(space.range.length)
        .key("has_data")
        .value(space.has_data)
        .end_object();
  json.end_array();
  write_starts(json, report);
  json.key("sets").begin_array();
  for (const SurveySet& set : report.sets) {
    json.begin_object().key("id").value(set.id).key("format").value(set.format);
    json.key("name").value(set.name).key("address").value(set.address);
    json.key("detail").value(set.detail).key("state").value(to_string(set.state));
    json.key("members").begin_array();
    for (const SpanMember& member : set.members) {
      json.begin_object().key("address").value(member.address);
      json.key("format").value(set.format).key("slot");
      member.slot ? json.value(*member.slot) : json.null();
      json.key("id").value(member.id).key("state").value(to_string(member.state));
      json.key("newest").value(member.newest).key("detail").value(member.detail).end_object();
    }
    json.end_array().key("volumes").begin_array();
    for (const SurveySet::Volume& volume : set.volumes) {
      json.begin_object().key("address").value(volume.address).key("name").value(volume.name);
      json.key("type").value(volume.type).key("state").value(to_string(volume.state));
      json.key("why_not").value(volume.why_not).key("hidden").value(volume.hidden);
      write_texts(json, "tags", volume.tags);
      json.end_object();
    }
    json.end_array().key("versions").begin_array();
    for (const SetVersion& version : set.versions) {
      json.begin_object().key("id").value(version.id).key("written_unix").value(version.written);
      json.key("what").value(version.what);
      write_texts(json, "removed", version.removed);
      json.end_object();
    }
    json.end_array().end_object();
  }
  json.end_array();
  json.key("sweeps").begin_array();
  for (const SurveySweep& sweep : report.sweeps) {
    json.begin_object().key("address").value(sweep.address).key("bytes").value(sweep.bytes);
    json.key("seconds");
    sweep.seconds ? json.value(static_cast<std::uint64_t>(*sweep.seconds + 1)) : json.null();
    json.key("worth").value(sweep.worth).key("why").value(sweep.why).end_object();
  }
  json.end_array();
  json.key("full").begin_array();
  for (const SurveyFull& full : report.full) {
    json.begin_object().key("address").value(full.address);
    json.key("free_bytes").value(full.free_bytes).key("size_bytes").value(full.size_bytes);
    json.key("holds_system").value(full.holds_system).key("largest").begin_array();
    for (const SurveyFull::Folder& folder : full.largest)
      json.begin_object()
          .key("path")
          .value(folder.path)
          .key("size_bytes")
          .value(folder.size_bytes)
          .end_object();
    json.end_array().end_object();
  }
  json.end_array();
  json.key("chosen");
  report.chosen.empty() ? json.null() : json.value(report.chosen);
  json.key("why").value(report.why);
  write_texts(json, "may_be", report.may_be);
  json.key("files_state").value(report.files_state).key("checked").value(report.checked);
  write_texts(json, "not_checked", report.not_checked);
  json.key("fixes").value(std::uint64_t{report.fixes});
  json.key("certain_fixes").value(std::uint64_t{report.certain_fixes});
}

}  // namespace lantern
