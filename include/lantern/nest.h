// Nest: from an address down through the layers: disks in files, volumes in disks, files in
// volumes, and disks in those again.
//
//   Context context;
//   Target target = open_target(Address::parse("station.vdi::2::/log.txt", exists), {}, context);
//
// Thread-safety: the functions may be called from any thread; what they return may be read by all.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lantern/address.h"
#include "lantern/byte_source.h"
#include "lantern/container.h"
#include "lantern/context.h"
#include "lantern/file_system.h"
#include "lantern/format/recognition.h"
#include "lantern/host.h"
#include "lantern/volume_table.h"

namespace lantern {

struct OpenOptions {
  std::optional<std::uint32_t> sector_size;  // bytes; otherwise worked out
  FileSystemOptions file_system;
  std::shared_ptr<const Host> host;  // asked who holds the source; empty: nobody is asked
  std::vector<std::string> look_in;  // host folders where parents and extents may lie
  bool allow_devices = false;        // devices of this computer that a descriptor names
};

// What stands at the start of a volume that is not recognised.
enum class VolumeStart { data, zeros, unreadable };

struct VolumeView {
  Address address;
  VolumeRow row;  // of the table; a disk without one has one row, number 1
  SourcePtr bytes;
  std::shared_ptr<const FileSystem> file_system;  // may be empty
  std::vector<DiskVersion> versions;              // earlier states it keeps, the oldest first
  // It as it was in a version, by id or name; empty pointer: there is none such. May be empty.
  std::function<SourcePtr(std::string_view)> open_version;
  // What its first structures say it is, read here or not, the best first.
  std::vector<Recognition> recognised;
  std::optional<Recognition> owner;  // the one of them that counts; empty: nothing is known of it
  VolumeStart start{};

  std::string required_key() const { return owner ? owner->required_key : std::string(); }
};

// What a volume holds, in words: "ext4", "LVM physical volume", "nothing but zeros at its start".
std::string content_of(const VolumeView& volume);

struct DiskView {
  Address address;
  SourcePtr file;  // as it lies
  Container container;
  VolumeTable table;
  std::vector<VolumeView> volumes;
  std::vector<Recognition> recognised;  // what the disk itself is by its own first structures
  std::optional<Recognition> owner;     // as of a volume
};

struct VolumeChoice {
  std::optional<std::size_t> index;  // in DiskView::volumes
  std::string why;
};

// What an address leads to.
struct Target {
  std::vector<DiskView> disks;        // outermost first; the target lies in the last
  std::optional<std::size_t> volume;  // in disks.back().volumes
  std::optional<Entry> entry;         // a file or folder in that volume; empty: its root
  std::string stream;                 // of that entry; empty: its own content
  SourcePtr bytes;                    // for ::bytes
  std::string chosen;                 // address of a volume the address left out
  std::string why;                    // why that one

  // The innermost disk, and the volume in it. Throw Error{usage} when there is none.
  const DiskView& disk() const;
  const VolumeView& volume_view() const;
  // That volume's. Throws Error{usage} when it has none that can be read.
  const FileSystem& file_system() const;
};

// Opens bytes as a disk: container, table, volumes and file systems. `address`: what it is called.
// `around`: what may be opened beside it.
DiskView open_disk(const SourcePtr& bytes, const Address& address, const Surroundings& around,
                   const OpenOptions& options, const Context& context);

// The files of a folder an address leads to: a host folder, an archive (tar), a folder of a file
// system. Empty when it leads to no folder.
std::shared_ptr<const Neighbours> open_folder(const Address& address, const OpenOptions& options,
                                              const Context& context);

// The disks in the folder FIRST is; an address that is none comes back as it is.
std::vector<Address> disks_of(const Address& address, const Context& context);

// An address as it names things once and for all: a symbolic link as the file it leads to, a member
// of a folder of this computer as that file.
Address resolved(const Address& address);

// Every file and device of this computer that a target is read from: FIRST, its extents, its
// parents, devices behind a descriptor.
std::vector<std::string> bottom_sources(const Target& target);

// Opens FIRST as a disk: container, table, volumes and file systems.
DiskView open_first(const Address& address, const OpenOptions& options, const Context& context);

// Follows every step. Throws Error{usage, not_found, cannot_open, cannot_read, unsupported}.
Target open_target(const Address& address, const OpenOptions& options, const Context& context);

// As open_target; a file the address ends in is opened as the disk it may be.
Target open_disk_target(const Address& address, const OpenOptions& options, const Context& context);

// As open_target, and down to a volume with a file system that can be read: the one named, else the
// one that most likely holds the user's files.
Target open_volume_target(const Address& address, const OpenOptions& options,
                          const Context& context);

// The volume as it was in one of its versions. Throws Error{not_found, cannot_read, unsupported}.
VolumeView open_volume_version(const VolumeView& volume, const std::string& id,
                               const OpenOptions& options, const Context& context);

// Visits what the target names, and what is in it, as it was in the versions of its volume, the
// newest first: active entries that differ in size or time from what a newer state has under their
// path.
using VersionVisitor =
    std::function<void(const VolumeView& then, const DiskVersion& version, const Entry& entry)>;
void walk_versions(const Target& target, const WalkOptions& options, const OpenOptions& open,
                   const Context& context, const VersionVisitor& visit);

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

// The volume that most likely holds the user's files, by what lies in each. Empty index: none has
// files that can be read.
VolumeChoice choose_volume(const DiskView& disk, const Context& context);

}  // namespace lantern
