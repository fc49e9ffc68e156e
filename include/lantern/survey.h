// Survey: what is this? Every layer of the sources, its volumes, which of them most likely holds
// the user's files, and what to type next. Follows only what the metadata says: seconds, not hours.
//
//   const SurveyReport report = survey({address}, session);
//
// Thread-safety: may be called from any thread.
#pragma once

#include <string>
#include <vector>

#include "lantern/error.h"
#include "lantern/json.h"
#include "lantern/nest/session.h"
#include "lantern/nest/source_set.h"

namespace lantern {

struct SurveyLayer {
  std::string address;
  std::string kind;    // "source", "disk", "table", "volume", "file system"
  std::string format;  // "raw", "vdi", "mbr", "gpt", "fat32"
  std::uint64_t size_bytes = 0;
  std::string detail;  // in words
};

struct SurveyVolume {
  VolumePtr layer;
  bool likely_user_files = false;
  // Counted when there is a file system.
  std::uint64_t used_bytes = 0;
  std::uint64_t files = 0;
  std::uint64_t folders = 0;
  std::uint64_t deleted = 0;        // files and folders
  std::uint64_t deleted_whole = 0;  // files with intact 1
  bool counted_all = true;          // false: counting stopped at its bound
};

struct SurveySource {
  std::string address;
  std::uint64_t size_bytes = 0;
};

// Members of one array or group among the sources.
struct SurveySet {
  std::string id;
  std::vector<SetMember> members;  // by slot; two of one slot are alternatives
};

struct SurveyReport {
  std::vector<SurveySource> sources;
  std::vector<SurveyLayer> layers;
  std::vector<SurveyVolume> volumes;
  std::vector<SurveySet> sets;
  std::string chosen;  // address of the volume with likely_user_files, or empty
  std::string why;
  std::vector<Action> next;
};

// A source that is given twice is read once.
SurveyReport survey(const std::vector<Address>& sources, const Session& session);

// The members of a report but its actions, into an object that is open (docs/json/README.md).
void write_json(JsonWriter& json, const SurveyReport& report);

}  // namespace lantern
