// Sweep: the scan for lost volumes and files. Its first part: volumes.
//
//   const VolumeSearch found = search_volumes(disk->bytes, disk->table, {}, context);
//   for (const FoundVolume& each : found.volumes) ...
//
// Thread-safety: may be called from any thread; the results are values.
#pragma once

#include <functional>
#include <string>
#include <string_view>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/context.h"
#include "lantern/volume_table.h"

namespace lantern {

struct FoundVolume {
  Range range;              // bytes of the disk, by the volume's own figures
  std::string format;       // its name in the registry: "fat", "ntfs", "xfs"
  std::string file_system;  // "fat32", "ntfs", ...; not read here: "xfs", "btrfs", "swap", "lvm",
                            // "luks2", "md" (Format::name)
  bool is_read = true;      // a reader here opens it
  std::uint64_t length_by_copy =
      0;                  // bytes, where the copy of its first sector says another; else 0
  bool open_end = false;  // it does not say how long it is: up to the next one
  std::string label, uuid;
  std::uint64_t files = 0;  // files and folders in its root folder, a few hundred at most
  bool start_lost = false;  // its first sector or superblock is lost, known by a copy of it
  bool past_end = false;    // its recorded end is past the end of the disk
  std::uint64_t row = 0;    // number of the row of the table that is just this; 0: none is
  unsigned score = 0;       // the weight of the evidence
  std::string evidence;     // what does
  bool verified = false;    // its first structure leads to what it should (Recognition)

  // The table names it, and its first structure is whole.
  bool settled() const { return row != 0 && verified; }
};

// A partition table, or a part of one, wherever it stands.
struct FoundTable {
  std::uint64_t offset = 0;  // bytes
  std::string kind;          // "mbr", "logical volume", "gpt", "gpt copy"
  std::string content;       // in words
};

struct VolumeSearchOptions {
  bool every_sector = false;  // even when the usual places explain the disk
  bool usual_places_only = false;
  std::uint64_t from = 0;  // byte; goes on where an earlier search stopped
};

struct VolumeSearch {
  std::vector<FoundVolume> volumes;  // by start; none overlaps another
  std::vector<FoundVolume> inside;   // overlap one of those and have less to show for it
  std::vector<FoundTable> tables;
  bool every_sector = false;     // all of the disk was read
  std::uint64_t stopped_at = 0;  // byte, when it was stopped; else the size of the disk
  std::uint64_t read_bytes = 0;
  std::uint64_t unexplained = 0;  // bytes stored outside the volumes found
};

// Looks where volumes usually begin and end, and, when those do not explain what the disk holds, at
// every sector that is stored. Reads nothing twice; stops at cancel with what was found until then.
VolumeSearch search_volumes(const SourcePtr& disk, const VolumeTable& table,
                            const VolumeSearchOptions& options, const Context& context);

// --- Everything, into a catalog ---

// How far a sweep is.
struct SweepState {
  Range range;                         // of the disk, bytes: all that is to be swept
  std::uint64_t swept_to = 0;          // byte of the disk
  std::uint64_t swept_bytes = 0;       // in this run, what is not stored included
  std::uint64_t unreadable_bytes = 0;  // so far
  struct Count {
    std::string kind;  // "NTFS records"
    std::uint64_t count = 0;
  };
  std::vector<Count> found;  // so far, of those kinds that were
  // The range as a drawing, kMapCells equal parts: ' ' not swept yet, '.' nothing but zeros, or not
  // stored, '+' data, '#' data without a pattern, 'x' unreadable, some of it at least.
  std::string map;
};
constexpr std::size_t kMapCells = 256;

struct SweepOptions {
  std::string catalog;  // the file; it is made, or gone on with
  Range range;          // of the disk, bytes; nothing: all of it
  // Only these of sweep_kinds(); nothing: all of them.
  std::vector<std::string> kinds = {};
  // Past what the volumes that can be read have in use.
  bool free_space_only = false;
  // The range is a part of what other sweeps read as well, on other computers perhaps: volumes are
  // listed, and files that lie across parts are joined, when the catalogs are merged. The range
  // grows to whole MiB.
  bool part = false;
  // Files by their content are looked for at every byte, not at the starts of sectors alone.
  bool unaligned = false;
  // Files of this computer with signatures of further kinds (docs/formats/signatures.md).
  std::vector<std::string> signatures = {};
  // An earlier catalog of this disk, or of what was copied of it then: what it found is taken over,
  // and what was read for it is not read again.
  std::string since = {};
  // Called from time to time, on the thread that sweeps.
  std::function<void(const SweepState&)> on_state = {};
  // The same once all is swept: which volume is listed, and how many entries of it so far.
  std::function<void(const std::string& volume, std::uint64_t entries)> on_listing = {};
  // And then: up to which byte of the disk the files that begin there were checked, and how many
  // were found so far by this run.
  std::function<void(std::uint64_t checked_to, std::uint64_t files)> on_checking = {};
  // And at last: how many of the files that were found cut were tried with other pieces of the
  // disk, of how many, and how many are whole by that.
  std::function<void(std::uint64_t tried, std::uint64_t all, std::uint64_t joined)> on_joining = {};
};

struct SweepSummary {
  std::uint64_t swept_to = 0;    // byte of the disk
  std::uint64_t read_bytes = 0;  // in this run
  bool resumed = false;          // an earlier run had begun
  bool part = false;             // it is of a part: nothing is listed before it is merged
  bool done = false;             // all was swept, and the volumes are listed
  struct Volume {
    std::string address;    // below the catalog
    bool lost = false;      // no table names it
    bool headless = false;  // nothing at its head tells of it
    std::string type;       // "ntfs"
    std::string label;
    Range range;                // bytes of the disk
    std::uint64_t files = 0;    // that are active
    std::uint64_t deleted = 0;  // entries
    std::uint64_t intact = 0;   // files, deleted or not
    std::string evidence;
  };
  std::vector<Volume> volumes;
  // What was found beside them and is not read here, or is no volume.
  struct Structure {
    std::string kind;    // "volume", "disk image", "partition table"
    std::string format;  // "luks2", "vdi", "gpt"
    std::string label;
    Range range;           // bytes of the disk; no length: it does not say
    std::string address;   // that opens it; empty: nothing here does
    std::string evidence;  // in words
  };
  std::vector<Structure> structures;
  // Files by their content, which no volume lists.
  struct Content {
    std::string kind;   // "jpg"
    std::string grade;  // "whole", "cut", "doubtful"
    std::uint64_t count = 0;
    std::uint64_t copies = 0;  // places beside those that hold just the same
    std::uint64_t bytes = 0;
  };
  std::vector<Content> content;
};

// What a sweep looks for, by kind: "volumes", "ntfs" and so on.
std::vector<std::string_view> sweep_kinds();

// Whether a file of this computer is a catalog.
bool is_catalog(const std::string& path);

class Session;
class DiskLayer;

// Reads every sector of a disk that is stored, once, and lists what is found in the catalog as it
// is found. Stopped or killed, it goes on when it is called again. `disk` was opened by `session`.
// Throws Error{cannot_write, cannot_read, refused (a catalog of another disk), stopped}.
SweepSummary sweep_to_catalog(const DiskLayer& disk, const SweepOptions& options,
                              const Session& session, const Context& context);

// Of `count` parts of a disk of so many bytes, in whole MiB, the one of this number (1 is the
// first).
Range part_of_disk(std::uint64_t disk_bytes, std::uint64_t number, std::uint64_t count);

// The address of the disk that a catalog is of, when it was swept. Throws as is_catalog's open.
std::string disk_of_catalog(const std::string& path);

// What sweeps of parts of a disk found, as one catalog: just what one sweep of it all finds. Goes
// on when it is called again. `options.catalog` is the one that is made. Throws Error{usage} where
// parts are missing, and as sweep_to_catalog.
SweepSummary merge_catalogs(const DiskLayer& disk, const std::vector<std::string>& parts,
                            const SweepOptions& options, const Session& session,
                            const Context& context);

}  // namespace lantern
