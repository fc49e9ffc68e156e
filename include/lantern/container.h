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

// Where a loose piece of a disk belongs, and how that is known.
struct PlaceClaim {
  std::size_t piece = 0;
  std::uint64_t disk_offset = 0;  // bytes, of the start of the piece
  std::string why;
};

// Looks inside for such claims. `known`: the disk as far as its blocks have places, the rest
// unreadable. `loose`: pieces, all of one length, that no table gives a place.
using FindPlaces = std::function<std::vector<PlaceClaim>(
    const SourcePtr& known, const std::vector<SourcePtr>& loose, const Context& context)>;

// A disk of this computer by a name that lasts, as a pointer descriptor has it.
struct PointedDisk {
  SourcePtr bytes;
  std::string place;  // its device now
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
  std::vector<FindPlaces> evidence;
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
