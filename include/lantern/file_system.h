// FileSystem: what every file system offers, once opened.
//
//   fs.walk({}, [](const Entry& each) {
//     use(each);
//     return WalkStep::go_on;
//   });
//   const Content content = fs.open(entry);
//
// Thread-safety: every member may be called from any thread at once. An Entry is a value; during a
// walk the visitor's reference is good until it returns.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/container.h"
#include "lantern/context.h"
#include "lantern/format/recognition.h"
#include "lantern/timestamp.h"

namespace lantern {

enum class EntryKind { file, folder, symlink, char_device, block_device, fifo, socket };
enum class EntryState {
  active,   // the file system holds it
  deleted,  // taken out, its entry is left
  orphan,   // no folder names it any more
  found     // known by its content alone
};

std::string_view to_string(EntryKind kind);
std::string_view to_string(EntryState state);

struct Ownership {
  std::uint32_t user = 0;
  std::uint32_t group = 0;
  std::uint32_t mode = 0;  // permissions with set-id and sticky bits, 0 to 07777
};

struct Entry {
  // Opaque; the same in every run. FAT: byte offset of its slot; ext: inode and generation;
  // NTFS: record and sequence.
  std::string id;
  std::uint64_t number = 0;       // the same for the file system's own use
  std::string parent;             // id of the folder it is in; empty: the root
  std::vector<std::string> path;  // raw bytes of each name from the root; the last is its own
  bool name_incomplete = false;   // FAT: its first character is lost, '_' stands for it
  EntryKind kind = EntryKind::file;
  EntryState state = EntryState::active;
  std::uint64_t size_bytes = 0;
  std::optional<Timestamp> modified;
  std::optional<Timestamp> created;
  std::optional<Timestamp> accessed;
  std::optional<Timestamp> changed;  // its record, not its content
  std::optional<Timestamp> deleted_at;
  std::optional<Ownership> owner;
  std::uint32_t links = 1;                   // names it has
  std::optional<std::uint32_t> security_id;  // NTFS: which of the volume's descriptors is its own
  std::uint64_t device = 0;                  // of a device: major number << 32 | minor
  std::string attributes;  // letters, format's own: FAT "rhsa"; ext: e encrypted, v verity;
                           // NTFS: "rhsa", c compressed, e encrypted, o offline, p sparse, l link
  // Share of the bytes, 0 to 1, that are readable, not discarded, and claimed by no active file,
  // folder or metadata nor by a later deleted entry; bytes whose owner is in doubt count half, so
  // that 1 always means whole. Empty: not known.
  std::optional<double> intact;
  std::string original_path;  // raw bytes; where it was before it went to a recycle bin
  std::string evidence;       // where name and place were found, and by which rule
};

struct Content {
  SourcePtr bytes;              // lost ranges read as zeros and as unreadable
  std::vector<Range> lost;      // of the content: known not to be the file's any more
  std::vector<Range> doubtful;  // read, though their owner is not certain
  std::string evidence;         // how its places were found, when not as its entry says
};

// Deleted files that lie among each other: together they fill the places, and which of them had
// which is not recorded.
struct Tangle {
  struct Member {
    std::string id;  // of its entry
    std::uint64_t size_bytes = 0;
    std::size_t first = 0;  // of the places: the one it begins in
    std::optional<Timestamp> created;
    std::optional<Timestamp> modified;
  };
  SourcePtr volume;
  std::uint64_t place_bytes = 0;
  std::vector<std::uint64_t> places;  // bytes of the volume, ascending
  std::vector<Member> members;        // by where they begin
};

// A further content of a file, by name.
struct Stream {
  std::string name;
  std::uint64_t size_bytes = 0;
  std::optional<double> intact;  // as of an entry
};

// A name and a value kept beside a file, both raw bytes, as the system shows them.
struct Attribute {
  std::string name;
  std::string value;
  friend bool operator==(const Attribute&, const Attribute&) = default;
};

// Whether names of a path must be as stored.
enum class NameRule { of_format, any_case };

// What holds a part of the volume.
struct Claim {
  Range range;  // bytes of the volume
  Entry entry;
  Range within;  // the same bytes in its content
};

enum class WalkOrder {
  as_stored,
  by_path,   // a folder's entries by the bytes of their names, each folder before what is in it
  by_folder  // as by_path, and of each folder first what is no folder
};

struct WalkOptions {
  bool active = true;
  bool deleted = false;
  bool versions = false;                 // with deleted: what files held before, too
  std::vector<std::string> under;        // only below this path; its own entry is not visited
  std::uint32_t max_depth = 0xFFFFFFFF;  // 1: the folder's own entries only
  WalkOrder order = WalkOrder::as_stored;
};

enum class WalkStep { go_on, skip_folder, stop };
using EntryVisitor = std::function<WalkStep(const Entry&)>;

struct FileSystemFacts {
  std::string format;  // its name in the registry: "fat", "exfat", "ext", "ntfs"
  std::string type;    // "fat12", "fat16", "fat32", "exfat", "ext2", "ext3", "ext4", "ntfs"
  std::string label;   // UTF-8
  std::string uuid;    // FAT: its serial number, "1A2B-3C4D"; NTFS: 16 digits
  std::uint64_t size_bytes = 0;
  std::uint64_t cluster_bytes = 0;
  std::uint64_t cluster_count = 0;
};

class FileSystem {
 public:
  FileSystem() = default;
  FileSystem(const FileSystem&) = delete;
  FileSystem& operator=(const FileSystem&) = delete;
  virtual ~FileSystem() = default;

  virtual const FileSystemFacts& facts() const = 0;

  // Bytes taken by files, folders and unusable clusters; reads the allocation table.
  virtual std::uint64_t used_bytes() const = 0;

  // Depth first, as stored; memory grows with depth, not with the tree; in another order also with
  // the folders on the way. What has no folder comes last. A path in `under` is
  // followed through every holder (active and deleted folders of one name).
  virtual void walk(const WalkOptions& options, const EntryVisitor& visit) const = 0;

  // Every entry of this path, active first. The format's own rule is any case for FAT, and the very
  // bytes for ext.
  virtual std::vector<Entry> find(const std::vector<std::string>& path,
                                  NameRule rule = NameRule::of_format) const = 0;

  virtual std::optional<Entry> entry(const std::string& id) const = 0;

  // Of a link: the path it names. Throws Error{usage} for what has no content (a folder, a device),
  // Error{not_found} when there is no such stream, Error{unsupported} for an encrypted file.
  virtual Content open(const Entry& entry, const std::string& stream = {}) const = 0;

  // The one that a deleted entry lies in. Empty: it lies alone, or it is recorded what it holds.
  virtual std::optional<Tangle> tangle(const Entry& /*entry*/) const { return std::nullopt; }

  // Beside the main one, which has no name.
  virtual std::vector<Stream> streams(const Entry& entry) const;

  virtual std::vector<Attribute> attributes(const Entry& entry) const;

  // Visits the runs of `range` of the volume, in order, each in use or free. What cannot be known
  // counts as in use. Return false to stop.
  using AllocationVisitor = std::function<bool(Range, bool in_use)>;
  virtual void allocation(Range range, const AllocationVisitor& visit) const = 0;

  // Earlier states it keeps, the oldest first, and one of them by its id; empty pointer: there is
  // none such.
  virtual std::vector<DiskVersion> versions() const { return {}; }
  virtual std::shared_ptr<const FileSystem> open_version(const std::string& /*id*/) const {
    return nullptr;
  }

  // The active entries whose content lies in `range` of the volume. Walks them all.
  std::vector<Claim> who_owns(Range range) const;
};

// A stretch of what lists the files, where it was found. NTFS: of the file table; FAT: a folder.
struct TablePiece {
  std::uint64_t table_offset = 0;   // of the table, bytes; of a folder the number of its cluster
  std::uint64_t volume_offset = 0;  // of the volume, bytes
  std::uint64_t length = 0;
};

class KeyRing;

struct FileSystemOptions {
  std::string code_page = "CP437";  // of FAT short names
  std::string as;                   // only this format; empty: the one that fits best
  // With `as`: figures by hand instead of those of a lost header, by the format's keys
  // (Format::geometry), bytes.
  std::map<std::string, std::uint64_t> geometry;
  // With `as` and figures: what was found of its file table or folders, in order, where nothing on
  // the volume leads there any more.
  std::vector<TablePiece> table_pieces;
  std::shared_ptr<KeyRing> keys;  // of encrypted volumes; empty: none are given
};

// What a file system lies in: its volume, and others that the volume names.
struct FileSystemSources {
  // The one of this identity (ext: UUID of the device its journal is on); empty pointer: it is not
  // among the sources. Any thread.
  using Other = std::function<SourcePtr(std::string_view identity)>;

  FileSystemSources(SourcePtr own, Other named = {})
      : volume(std::move(own)), other_(std::move(named)) {}
  SourcePtr other(std::string_view identity) const { return other_ ? other_(identity) : nullptr; }

  SourcePtr volume;

 private:
  Other other_;
};

// Empty when no file system that can be read here is recognised. Throws Error{usage} when
// options.as is no file system that is read, or takes no such figures. `recognised`: what the
// registry says of the volume, when that is known already.
std::shared_ptr<const FileSystem> open_file_system(const FileSystemSources& sources,
                                                   const FileSystemOptions& options,
                                                   const Context& context);
std::shared_ptr<const FileSystem> open_file_system(const FileSystemSources& sources,
                                                   const std::vector<Recognition>& recognised,
                                                   const FileSystemOptions& options,
                                                   const Context& context);

}  // namespace lantern
