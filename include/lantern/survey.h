// Survey: what is this? Every layer of the sources, its volumes and the space between them, which
// volume most likely holds the user's files, whether a machine starts from it, and what to do next.
// Follows only what the metadata says: seconds, not hours.
//
//   const SurveyReport report = survey({address}, session);
//
// Thread-safety: may be called from any thread.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "lantern/error.h"
#include "lantern/json.h"
#include "lantern/nest/session.h"
#include "lantern/nest/source_set.h"
#include "lantern/nest/start_chain.h"

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
  bool listed = true;     // false: no entry of a table names it
  std::string member_of;  // address of the array or group it is a member of; empty: none
  bool removed = false;   // a volume that only an older description of its group has
  std::string machine;    // name of the machine it belongs to, where that is known
  std::string machine_why;
  std::string content;  // what is in it, in words; empty: not known
  // There is data in it that cannot be read: files may be lost from sight there.
  bool may_hold_files = false;
  bool likely_user_files = false;
  // Counted when there is a file system, and counting was asked for.
  std::uint64_t used_bytes = 0;
  std::uint64_t files = 0;
  std::uint64_t folders = 0;
  std::uint64_t incomplete = 0;      // active files that are not intact
  std::uint64_t deleted = 0;         // files and folders
  std::uint64_t deleted_intact = 0;  // files with intact 1
  // Of virtual machines, by their names, deleted ones too.
  std::uint64_t machine_configs = 0;
  std::uint64_t disk_images = 0;
  std::uint64_t deleted_of_machines = 0;  // of both
  bool counted_all = true;     // false: counting stopped at its bound, or was not asked for
  std::optional<Action> next;  // what leads to more of it; empty: nothing does
};

// A part of a disk that no volume is in, of a MiB or more.
struct SurveySpace {
  std::string address;    // of the disk
  Range range;            // bytes of the disk
  bool has_data = false;  // not only zeros, where it was looked at
};

struct SurveyStart {
  std::string address;  // of the disk
  StartChain chain;
};

// A volume with less than a hundredth of it free, and less than a GiB.
struct SurveyFull {
  std::string address;
  std::uint64_t free_bytes = 0, size_bytes = 0;
  bool holds_system = false;  // one that starts from it may not, without room
  bool can_grow = false;      // of a kind that is grown here
  struct Folder {
    std::string path;
    std::uint64_t size_bytes = 0;  // of all files in it
  };
  std::vector<Folder> largest;  // of the first two levels, the largest first
};

// What a sweep of a disk would take, and whether it is worth that now.
struct SurveySweep {
  std::string address;            // of the disk
  std::uint64_t bytes = 0;        // that are stored: all that would be read
  std::optional<double> seconds;  // at the speed that a few MiB were read with; empty: not tried
  bool worth = false;
  std::string why;  // in words
};

struct SurveySource {
  std::string address;
  std::uint64_t size_bytes = 0;
};

// Members of one array or group among the sources, and what it gives.
struct SurveySet {
  struct Volume {
    std::string address;  // that opens it; empty: it cannot be opened, why_not says why
    std::string name, type, why_not;
    SetState state{};
    bool hidden = false;  // a part of another
    std::vector<std::string> tags;
  };
  std::string id;
  std::string format;  // "md", "lvm", or that of a set that is not put together here
  std::string name;
  std::string address;  // empty: it is not put together here
  std::string detail;   // in words
  SetState state{};
  std::vector<SpanMember> members;  // by slot; two of one slot are alternatives
  std::vector<Volume> volumes;
  std::vector<SetVersion> versions;  // older descriptions of a group
};

struct SurveyReport {
  std::vector<SurveySource> sources;
  std::vector<SurveyLayer> layers;
  std::vector<SurveyVolume> volumes;
  std::vector<SurveySpace> spaces;
  std::vector<SurveySet> sets;
  std::vector<SurveyStart> starts;
  std::vector<SurveySweep> sweeps;  // with SurveyOptions::count
  std::vector<SurveyFull> full;     // with SurveyOptions::count
  std::string chosen;               // address of the volume with likely_user_files, or empty
  std::string why;                  // of that, or why none is
  std::vector<std::string> may_be;  // without `chosen`: those that may hold the user's files
  std::string files_state;          // what was found wrong means for the files, in words
  std::string checked;  // in words, where nothing is wrong with it and all of it is understood
  std::vector<std::string> not_checked;      // what is not understood, in words
  std::size_t fixes = 0, certain_fixes = 0;  // of the repair plan, when one was asked for
  std::vector<Action> next;
};

struct SurveyOptions {
  // false: only the heads of the volumes are read, no entry is looked at.
  bool count = true;
  // Where something is wrong, whether repair has fixes for it: needs `count`.
  bool plan = true;
};

// A source that is given twice is read once. Findings go to the session's context.
SurveyReport survey(const std::vector<Address>& sources, const Session& session,
                    const SurveyOptions& options = {});

// The members of a report but its actions, into an object that is open (docs/json/README.md).
void write_json(JsonWriter& json, const SurveyReport& report);

}  // namespace lantern
