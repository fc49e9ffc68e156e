// Target: what an address leads to: disks within disks, the volume in the last of them, a file in
// that.
//
//   const Target log = session.open(Address::parse("station.vdi::2::/log.txt"));
//   const Content content = log.file_system().open(*log.entry);
//
// Thread-safety: a Target is a value; what it holds may be read by all.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lantern/json.h"
#include "lantern/nest/layer.h"
#include "lantern/nest/spanned_sets.h"

namespace lantern {

struct Target {
  std::vector<DiskPtr> disks;               // outermost first; the target lies in the last
  VolumePtr volume;                         // of disks.back(); may be empty
  std::optional<Entry> entry;               // a file or folder in that volume; empty: its root
  std::string stream;                       // of that entry; empty: its own content
  SourcePtr bytes;                          // for ::bytes
  std::shared_ptr<const SpannedSets> sets;  // that the volume was taken from
  std::string chosen;                       // address of a volume the address left out
  std::string why;                          // why that one

  // The innermost disk, and the volume in it. Throw Error{usage} when there is none.
  const DiskLayer& disk() const;
  const VolumeLayer& volume_layer() const;
  // That volume's. Throws Error{usage} when it has none that can be read.
  const FileSystem& file_system() const;
};

// What was found in the layers of a target that were looked at, whoever looked, by address, offset
// and code.
std::vector<Finding> findings_of(const Target& target);

// An address as it names things once and for all: a symbolic link as the file it leads to, a member
// of a folder of this computer as that file.
Address resolved(const Address& address);

// Where an entry can be opened again: an active one by its path, any other by its id.
Address entry_address(const VolumeLayer& volume, const Entry& entry);

// An entry as one JSON object (docs/json/README.md); `more` adds members of its own.
void write_json(JsonWriter& json, const VolumeLayer& volume, const Entry& entry,
                const std::function<void(JsonWriter&)>& more = {});

// Every file and device of this computer that a target is read from: FIRST, its extents, its
// parents, devices behind a descriptor.
std::vector<std::string> bottom_sources(const Target& target);

// Walks what the target names: the whole volume, one folder (and no other of the same path), or one
// file. `options.under` is set here.
void walk_target(const Target& target, WalkOptions options, const EntryVisitor& visit);

// Where a stretch of a content lies in every layer below it.
struct LayeredExtent {
  Extent extent;  // of the content
  struct Place {
    std::string address;  // of the layer
    std::uint64_t offset_bytes = 0;
  };
  std::vector<Place> places;  // nearest first; a stretch that is not stored has none
};

// The extents of `content`, a file of the target's volume, each followed down to the outermost file
// or device. Return false to stop.
void follow_down(const Target& target, const ByteSource& content,
                 const std::function<bool(const LayeredExtent&)>& visit);

struct VolumeChoice {
  std::optional<std::size_t> index;  // of the volumes that were asked about
  std::string why;
};

// The volume that most likely holds the user's files, by what lies in each. Empty index: none has
// files that can be read.
VolumeChoice choose_volume(const std::vector<VolumePtr>& volumes, const Context& context);

}  // namespace lantern
