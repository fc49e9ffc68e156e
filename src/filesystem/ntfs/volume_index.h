// VolumeIndex: one reading of the whole file table. Which names stand in which folder, what was
// deleted or has lost its folder, what is left of files whose records are others' now, and which
// clusters are claimed by whom.
//
// The folders' own indexes are not walked: a name stands in its file's record, too, and a damaged
// index then hides nothing.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <unordered_map>
#include <vector>

#include "base/range_set.h"
#include "filesystem/ntfs/deleted/last_owner.h"
#include "filesystem/ntfs/deleted/recycle.h"
#include "filesystem/ntfs/deleted/remnant.h"

namespace lantern::ntfs {

constexpr std::uint32_t kNowhere = 0xFFFFFFFF;  // instead of a folder: not known
constexpr std::uint16_t kNameless = 0xFFFF;     // instead of a name: none is left in the record

// A name in a folder; small, since there may be millions.
struct Link {
  std::uint32_t folder = kNowhere;  // records, or remnants behind them
  std::uint32_t record = 0;
  std::uint16_t folder_sequence = 0;
  std::uint16_t name = 0;  // index in File::names
  bool deleted : 1 = false;
  bool orphan : 1 = false;  // in use, but no folder that is leads to it
  bool is_folder : 1 = false;
};

// A name that was found elsewhere than in its file's record.
struct GivenName {
  std::string text;
  std::string evidence;
};

struct VolumeIndex {
  std::vector<Link> links;                             // sorted by folder, record and name
  std::unordered_map<std::uint32_t, GivenName> given;  // by record, of the nameless
  Traces traces;                                       // of what is not in use
  Remnants remnants;
  // Of deleted files, the records that went on with theirs, whether their lists tell of them or
  // not.
  std::unordered_map<std::uint64_t, std::vector<std::uint64_t>> further;
  RecycleBin recycled;
  RangeSet live;                       // clusters
  RangeSet deleted;                    // of files that are not
  std::vector<LastOwner> last_owners;  // of those claimed twice
  // A deleted file that was last changed before these may have been written over by something that
  // has left no trace.
  std::optional<Timestamp> last_unseen_life;
  std::optional<Timestamp> last_rewrite;

  // By a link's record: one of the table, or a remnant.
  std::optional<File> file(const Volume& volume, std::uint64_t number) const;
  // What is told of a deleted file whose record is left.
  const Trace* trace_of(const File& file) const;
  // The links of one folder.
  std::pair<std::size_t, std::size_t> in_folder(std::uint32_t folder) const;
};

// `with_deleted`: without it only what is in use is looked at, and no claims are.
VolumeIndex index_volume(const Volume& volume, bool with_deleted);

bool before(const Timestamp& a, const Timestamp& b);

}  // namespace lantern::ntfs
