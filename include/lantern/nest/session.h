// Session: one job. It owns the options, the services and the layers opened so far: an address that
// is opened twice is the same layer, for as long as somebody holds it.
//
//   const Session own;
//   const Target log = own.open(Address::parse("station.vdi::2::/log.txt"));
//
// Thread-safety: every member may be called from any thread. A Session is a handle; copies are the
// same session.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lantern/host.h"
#include "lantern/nest/array_statement.h"
#include "lantern/nest/disks.h"
#include "lantern/nest/target.h"

namespace lantern {

struct OpenOptions {
  std::optional<std::uint32_t> sector_size;  // bytes; otherwise worked out
  FileSystemOptions file_system;
  std::shared_ptr<const Host> host;  // asked who holds the source; empty: nobody is asked
  std::vector<std::string> look_in;  // host folders where parents and extents may lie
  bool allow_devices = false;        // devices of this computer that a descriptor names
  // Further sources of the same job: what a volume lies in besides its own is looked for on its
  // disk, and then in these.
  std::vector<Address> with;
};

class Session {
 public:
  // `context`: its sink gets what is found in every layer this session opens, its cancel stops
  // every call, and files are read through its scratch.
  explicit Session(OpenOptions options = {}, Context context = Context());

  const OpenOptions& options() const;
  const Context& context() const;
  // The same options for another context, with nothing opened yet: over other writes, say.
  Session with(Context context) const;

  // Follows every step. Throws Error{usage, not_found, cannot_open, cannot_read, unsupported}, as
  // all that follow.
  Target open(const Address& address) const;
  // As open; a file the address ends in is opened as the disk it may be.
  Target open_disk(const Address& address) const;
  // As open, and down to a volume with a file system that can be read: the one named, else the one
  // that most likely holds the user's files.
  Target open_volume(const Address& address) const;

  // FIRST as a disk.
  DiskPtr open_first(const Address& address) const;
  // Bytes as a disk. `address`: what it is called. `around`: what may be opened beside it. `from`:
  // the layers the bytes come from.
  DiskPtr open_bytes(const SourcePtr& bytes, const Address& address, const Surroundings& around,
                     std::vector<LayerPtr> from = {}) const;
  // The files of a folder an address leads to: a host folder, an archive (tar), a folder of a file
  // system. Empty when it leads to no folder.
  std::shared_ptr<const Neighbours> open_folder(const Address& address) const;
  // A stretch of a disk as a volume.
  VolumePtr open_range(const DiskLayer& disk, VolumeRow row, const Address& address) const;
  // A volume, or a disk as a whole, read by hand as the file system options.as.
  VolumePtr open_as(const Layer& layer, VolumeRow row, const Address& address,
                    FileSystemOptions options) const;
  // The arrays and groups with members among the volumes of these disks, of which the last is the
  // innermost, and of the sources given besides (OpenOptions::with); and those that lie in them.
  // `base`: what they are named under.
  std::shared_ptr<const SpannedSets> spanned_sets(const Address& base,
                                                  const std::vector<DiskPtr>& disks) const;
  // Of disks that were named one by one: each set is named under the first of its own disks, by the
  // names of those, so that no other disk changes what it is called.
  std::shared_ptr<const SpannedSets> spanned_sets(const std::vector<DiskPtr>& disks) const;
  // Of a folder: its disks. One that cannot be opened is passed over.
  std::shared_ptr<const SpannedSets> spanned_sets(const Address& folder) const;
  // An array whose geometry is stated (ArrayStatement), of these members, by slot; an empty pointer
  // is a hole. Throws Error{usage} for what cannot be.
  VolumePtr open_array(const ArrayStatement& stated, const std::vector<LayerPtr>& members,
                       const Address& address) const;
  // The volume as it was in one of its versions. Throws Error{not_found, cannot_read, unsupported}.
  VolumePtr open_version(const VolumeLayer& volume, const std::string& id) const;

 private:
  // The disk that FIRST names; empty: it is a path. Throws Error{usage, not_found, unsupported}.
  std::optional<NamedDisk> named_disk(const std::string& first) const;

  struct State;
  std::shared_ptr<State> state_;
};

// The disks in the folder FIRST is; any other address comes back as it is.
std::vector<Address> disks_of(const Address& address, const Context& context);

// Each volume of arrays and groups that has files that can be read; of one that has a partition
// table or is a disk image, the volumes in it. Parts of others are left out.
std::vector<Target> spanned_targets(const std::shared_ptr<const SpannedSets>& sets,
                                    const Session& session);

// Visits what the target names, and what is in it, as it was in the versions of its volume, the
// newest first: active entries that differ in size or time from what a newer state has under their
// path.
using VersionVisitor =
    std::function<void(const VolumeLayer& then, const DiskVersion& version, const Entry& entry)>;
void walk_versions(const Target& target, const WalkOptions& options, const Session& session,
                   const VersionVisitor& visit);

}  // namespace lantern
