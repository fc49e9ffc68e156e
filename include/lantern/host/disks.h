// The disks of a computer, as it describes them itself. What they are called so that the name
// lasts, and what they hold, is in lantern/nest/disks.h.
//
//   for (const HostDisk& each : this_host()->disks())
//     if (!each.in_use()) ...
//
// Thread-safety: values.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "lantern/range.h"

namespace lantern {

// What uses a disk, and what ends that.
struct HostUse {
  std::string words;    // "mounted on /srv", "swap", "in array md0", "open in qemu (process 12)"
  std::string release;  // the system's own command that ends it; empty: it has no such
};

struct HostPartition {
  std::uint64_t number = 0;
  Range range;         // bytes of the disk
  std::string device;  // where it is now: "/dev/sda2"
  std::vector<HostUse> uses;
};

struct HostDisk {
  std::string device;  // where it is now, "/dev/sda": the next start may call another disk that
  std::string model, serial, wwn;  // as it names itself; may be empty
  std::string port;                // where it is plugged in, lasting; may be empty
  std::string bus;                 // "ata", "nvme", "scsi", "usb", "mmc", "virtio", "loop"
  std::string backing_file;        // of a loop device
  std::uint64_t size_bytes = 0;
  std::uint32_t sector_bytes = 512;           // logical
  std::uint32_t physical_sector_bytes = 512;  // at least the logical one
  bool removable = false;
  bool read_only = false;
  std::optional<bool> rotates;
  std::optional<std::uint32_t> rotations_per_minute;
  std::optional<int> temperature_celsius;
  std::string health;          // in words, as far as the system tells; empty: it says nothing
  bool computers_own = false;  // the system this computer runs is on it
  std::vector<HostUse> uses;   // those of its partitions stand with them
  std::vector<HostPartition> partitions;  // as the system has read them, by number

  bool in_use() const;
};

}  // namespace lantern
