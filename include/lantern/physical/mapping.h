// Mapping: a small file that hypervisors open as a disk and that only points to a physical one, or
// to some of its partitions: the rest is then zeros and a copy of the boot sectors of its own, so
// that what the machine writes there never reaches the disk.
//
//   const DiskMap map = plan_map({{Address::parse("disk:SK-00961")}, "station.vmdk"}, session);
//   write_map(map, session);
//
// The descriptor is the text of Virtual Disk Format 5.0 (VMware, public technical note).
// Thread-safety: the functions may be called from any thread, for different files.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "lantern/nest/session.h"

namespace lantern {

// Which create types a hypervisor opens.
enum class DescriptorKind {
  flat_extents,   // zeros are holes of private files
  device_extents  // "fullDevice" and "partitionedDevice", zeros without a file
};

struct MapRequest {
  std::vector<Address> what;  // one disk, or partitions of one; by its lasting name
  std::string out;            // "station.vmdk"
  DescriptorKind kind = DescriptorKind::flat_extents;
  std::uint32_t machine_sector_bytes = 512;  // as the hypervisor presents the disk
};

struct MapExtent {
  enum class Kind { device, own_file, zeros };
  Kind kind{};
  Range range;                // bytes of the disk
  std::string file;           // the device, or the name of a private file beside the descriptor
  std::uint64_t from = 0;     // byte of it
  std::vector<Range> copied;  // into the private file: bytes of the disk
};

struct DiskMap {
  std::string file;
  NamedDisk disk;
  bool lasting_path = false;  // the system has a path to the device that lasts
  std::uint32_t machine_sector_bytes = 512;
  std::string table_id;
  DescriptorKind kind{};
  std::vector<VolumeRow> partitions;  // none: the whole disk
  std::vector<MapExtent> extents;     // without gaps
  // A device that is opened for several extents: a hypervisor that locks what it opens must be
  // told not to.
  bool shares_device() const;
};

// Reads the disk's table; writes nothing. Throws Error{refused}: it is this computer's own, it or a
// partition wanted is in use, a name that does not last, a table made for other sectors than the
// machine will see, a file that is there already. Throws Error{usage, not_found}.
DiskMap plan_map(const MapRequest& request, const Session& session);

// Writes the private files and then the descriptor. On an Error nothing of it stays. Throws
// Error{refused, cannot_write, stopped}.
void write_map(const DiskMap& map, const Session& session);

// Who may open the device, and what gives another user access; lines.
std::vector<std::string> access_to(const std::string& device);

enum class MapState {
  good,
  renumbered,  // the disk is here, under another path than the descriptor has
  grown,       // it is larger than it was
  edited,      // the extents are not those that were written
  changed,     // the same disk, partitioned again
  other,       // its path leads to another disk
  gone,        // no such disk is here
  unknown      // written by another hand: which disk it means is not recorded
};
std::string_view name_of(MapState state);

struct CheckedMap {
  std::string file;
  std::string disk;                       // "disk:NAME"; empty: not recorded
  std::vector<std::uint64_t> partitions;  // numbers; none: the whole disk
  MapState state{};
  std::string why;   // in words; empty when it is good
  std::string cure;  // what fix_map does, in words; empty: it does nothing
};

// Every pointer descriptor in the folder and those below it, by path. Throws Error{cannot_open,
// stopped}.
std::vector<CheckedMap> check_maps(const std::string& folder, const Session& session);

// Writes the descriptor again for the disk as it is now, in one step; one whose disk is gone is
// renamed to "FILE.removed". Private files stay as they are. Throws Error{refused, cannot_write}.
void fix_map(const CheckedMap& checked, const Session& session);

}  // namespace lantern
