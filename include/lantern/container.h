// Container: a virtual disk file opened as the flat disk it stands for, with the chain of parents
// is based on and the snapshots it keeps inside.
//
//   const Container container = open_container(file, {}, context);
//   const std::uint64_t size_bytes = container.flat->size();
//
// Thread-safety: open_container may be called from any thread; a Container is a value, what it
// holds may be read by all.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/context.h"
#include "lantern/sources.h"
#include "lantern/timestamp.h"

namespace lantern {

// One file below another in a chain.
struct ChainLink {
  std::string place;  // printable: path or address of the file; the name asked for when missing
  std::string format;
  std::string id;
  std::string why;  // why this file was taken
  bool missing = false;
};

// An earlier state of a disk or a volume, kept inside it.
struct DiskVersion {
  std::string id;
  std::string name;
  std::optional<Timestamp> created;
  std::uint64_t size_bytes = 0;  // of it then
};

struct Container {
  std::string format = "raw";      // "vdi", "qcow2", ...
  std::string variant;             // "dynamic", "fixed", "stream-optimised", ...
  SourcePtr flat;                  // the disk
  std::uint64_t stored_bytes = 0;  // of the file and its extents, parents not counted
  std::string id;                  // identity, as the format prints it
  std::vector<ChainLink> chain;    // parents, nearest first
  std::string points_to;           // the disk a pointer descriptor means: "disk:NAME"; else empty
  std::vector<std::string> files;  // places of its extents, when it is more than one file
  std::vector<DiskVersion> versions;
  // The disk as it was in a version, by its id or, when only one has it, its name; empty pointer:
  // there is none such. Throws Error{cannot_read}.
  std::function<SourcePtr(std::string_view)> open_version;
};

// A block of a container's file: it has its place on the disk, or is a loose piece.
struct FileSlot {
  std::optional<std::uint64_t> place;  // bytes of the disk
  std::size_t piece = 0;               // without a place: which
};

// Pieces of a disk, all of one length, that no table gives a place.
struct LoosePieces {
  std::vector<SourcePtr> bytes;  // zero behind the end of one that is cut
  std::vector<bool> placed;      // those that have their place by now
  std::uint64_t piece_bytes = 0;
  std::vector<FileSlot> slots;  // all blocks in the order of the file; empty: it has no such order
  // How many neighbours in the file have their places by now, and how many of these are neighbours
  // on the disk in the same order.
  std::size_t neighbours = 0, in_order = 0;
};

// Where a loose piece belongs, and how that is known.
struct PlaceClaim {
  std::size_t piece = 0;
  std::uint64_t disk_offset = 0;  // bytes, of the start of the piece
  std::string why;
  bool inferred = false;  // not from what the piece holds: counts when nothing else tells more
};

// What must stand at places of the disk; for finders that come with the library.
class Expectations;

// Tells from what lies in loose pieces where they belong. Thread-safety: belongs to one thread.
class PlaceFinder {
 public:
  virtual ~PlaceFinder() = default;
  // Is given each sector of 512 bytes of each piece once, in order, but those known to be zero.
  virtual void look(std::size_t piece, std::uint64_t within, std::span<const std::byte> sector) = 0;
  // `known`: the disk as far as its blocks have places, the rest unreadable. Asked again whenever
  // more of them have one. What is less than a claim is added to `expected`.
  virtual std::vector<PlaceClaim> claims(const SourcePtr& known, Expectations& expected) = 0;
  // What takes long, or is inferred: asked when the claims of all, and what they expect, placed
  // nothing. `known` and `expected` are those of before.
  virtual std::vector<PlaceClaim> late_claims(const SourcePtr& /*known*/,
                                              const Expectations& /*expected*/) {
    return {};
  }
};

// What it is given must outlive what it makes.
using MakePlaceFinder =
    std::function<std::unique_ptr<PlaceFinder>(const LoosePieces& loose, const Context& context)>;

// A disk of this computer by a name that lasts, as a pointer descriptor has it.
struct PointedDisk {
  SourcePtr bytes;
  std::string place;  // its device now
};

// An entry of a block table that cannot be believed, and what it should say.
struct MendedEntry {
  std::uint64_t disk_offset = 0;  // bytes, of its block
  bool found = false;             // its block lies in the file, else it has none or none is known
  bool inferred = false;          // as PlaceClaim has it
  // Bytes of the file, and what belongs there: the entry, and copies of it.
  std::vector<std::pair<std::uint64_t, std::vector<std::byte>>> writes;
};

// What may be opened beside a file, for its parents, extents and pieces; and who can tell where a
// loose block belongs.
struct Surroundings {
  std::string name;                          // raw name of the file itself, or empty
  std::string as;                            // only this format, "raw" is one; empty: any
  std::shared_ptr<const Neighbours> beside;  // may be empty
  std::vector<std::shared_ptr<const Neighbours>> look_in;
  bool allow_devices = false;  // devices of this computer that a descriptor names
  // The disk that a pointer descriptor means, by its name and its size in bytes. Throws Error when
  // it is not here. Empty function: nobody can say.
  std::function<PointedDisk(const std::string& name, std::uint64_t size_bytes)> pointed_disk;
  std::vector<std::string> opening;  // places of the files that lie on this one
  std::vector<MakePlaceFinder> evidence;
  // Told of each entry of a table that is mended. Empty function: nobody asks.
  std::function<void(const MendedEntry&)> mended;
  // How large the disk is by what lies in it, bytes; 0: that does not say.
  std::function<std::uint64_t(const SourcePtr& known)> size_inside;
  // Whether a volume of a known kind begins here: then a file is a raw disk, not a damaged
  // container.
  std::function<bool(const SourcePtr& bytes)> is_volume;
};

// Recognises what `file` is by its own bytes. A file of no known container is raw: its flat disk is
// itself. Throws Error{cannot_read, unsupported}; damage that can be read past becomes findings.
Container open_container(const SourcePtr& file, const Surroundings& around, const Context& context);

}  // namespace lantern
