// An NTFS volume's bytes, its file table, and files put together from their records.
//   run list: bytes of a count (low half of the first byte) and of a step (high half), the count of
//     clusters, the signed step from the last run's cluster; no step: a hole; a zero byte: the end
//   attribute list: 0 4 type  4 2 length  6 1 units, 7 1 offset of its name  8 8 first cluster
//     0x10 8 record it is in, a reference
// Source: the Linux kernel's documentation and headers of NTFS.
//
// Thread-safety: any thread.
#pragma once

#include <algorithm>
#include <optional>
#include <string>
#include <vector>

#include "filesystem/ntfs/boot.h"
#include "filesystem/ntfs/names.h"
#include "filesystem/ntfs/record.h"
#include "lantern/context.h"
#include "lantern/file_system.h"
#include "lantern/sources.h"

namespace lantern::ntfs {

constexpr std::uint64_t kTableRecord = 0;  // $MFT
constexpr std::uint64_t kLogRecord = 2;
constexpr std::uint64_t kVolumeRecord = 3;
constexpr std::uint64_t kRootRecord = 5;
constexpr std::uint64_t kBitmapRecord = 6;
constexpr std::uint64_t kUpCaseRecord = 10;
constexpr std::uint64_t kExtendRecord = 11;
constexpr std::uint64_t kFirstOwnRecord = 24;  // those before it are the file system's

// A run of clusters. Those of one stream are in order and do not overlap; where none speaks, the
// clusters are lost.
struct Run {
  std::uint64_t vcn = 0;  // cluster of the stream
  std::uint64_t lcn = 0;  // cluster of the volume
  std::uint64_t count = 0;
  bool hole = false;

  std::uint64_t end() const { return vcn + count; }
};

// A content, an index, a list: all pieces of an attribute of one type and name.
struct Stream {
  std::uint32_t type = 0;
  std::string name;
  std::uint16_t flags = 0;
  bool resident = true;
  bool compressed = false;
  bool encrypted = false;
  Bytes value;                    // resident
  std::uint64_t value_place = 0;  // of that, byte of the volume
  std::vector<Run> runs;
  std::uint64_t size_bytes = 0;
  std::uint64_t written_bytes = 0;  // what is behind it reads as zero
  std::uint8_t unit_shift = 0;      // clusters of a compressed unit, as a power of two
};

struct File {
  std::uint64_t number = 0;
  std::uint16_t sequence = 0;
  std::uint16_t links = 0;
  bool in_use = false;
  bool folder = false;
  bool torn = false;
  bool parts_lost = false;  // records its attribute list names are others' now
  bool remnant = false;     // its own record is another's now
  std::uint64_t recorded_size =
      0;  // its size as told elsewhere, when nothing is left of its content
  std::optional<Timestamp> created, modified, changed, accessed;
  std::uint32_t attributes = 0;
  std::optional<std::uint32_t> security_id;
  std::vector<FileName> names;
  std::vector<Stream> streams;

  // Empty when there is none. `name`: of a further one.
  const Stream* find(std::uint32_t type, const std::string& name = {}) const;
};

struct Volume {
  SourcePtr raw;     // for contents
  SourcePtr cached;  // for structures
  Geometry geometry;
  Context context;
  std::uint64_t there_bytes = 0;  // of the volume, what its source has
  SourcePtr table{};              // the file table's bytes
  std::vector<Run> table_runs{};

  // Clusters that are there, in whole or in part: more are walked over by nobody.
  std::uint64_t clusters_there() const {
    return std::min(geometry.cluster_count(), there_bytes / geometry.cluster_bytes +
                                                  (there_bytes % geometry.cluster_bytes != 0));
  }
  std::uint64_t records() const { return table->size() / geometry.record_bytes; }
  // Of the volume, bytes; empty when it is not there.
  Range record_place(std::uint64_t number) const;
  std::optional<Record> record(std::uint64_t number) const;
  // Puts a file together from its record and those its list of attributes names; `more`: others
  // that name it as theirs.
  using Numbers = std::vector<std::uint64_t>;
  File file_of(std::uint64_t number, const Record& record, const Numbers& more = {}) const;
  std::optional<File> file(std::uint64_t number, const Numbers& more = {}) const;
  // Of a file whose own record is lost, from those that went on with it.
  File file_of_extensions(const Numbers& records) const;

  // The stream's bytes as they lie, not unpacked; clusters nobody speaks of are unreadable.
  SourcePtr bytes_of(const Stream& stream, const SourcePtr& from) const;
};

// Adds an attribute's runs in order; those that can be nowhere end it.
void add_runs(ByteView list, std::uint64_t first_vcn, std::uint64_t cluster_count,
              std::vector<Run>& runs);

// The file table by where its pieces were found; what is not among them is lost.
void set_table(Volume& volume, const std::vector<TablePiece>& pieces);

// Finds the file table from its own record or the copy of it. False: there is none.
bool find_table(Volume& volume);

}  // namespace lantern::ntfs
