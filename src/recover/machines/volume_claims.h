// Which machine has which volume of an array or group: what definitions say that stand in a file
// system of the same disks. Two kinds are read:
//   domain XML, whose disks name devices: /dev/GROUP/NAME, /dev/mapper/GROUP-NAME, /dev/md/NAME
//   tables of a hypervisor in one XML file: <table name="VM"><row ref=... uuid=...
//   name__label=.../>,
//     VBD (VM, VDI, userdevice), VDI (uuid, name__label, SR), SR (uuid); in values %. is a blank
//     and
//     %% a %. A volume has the uuid of a row of VDI in its name
//
// Thread-safety: pure functions.
#pragma once

#include <string>
#include <vector>

#include "lantern/nest/session.h"

namespace lantern {

struct VolumeClaim {
  std::string machine;
  std::string config;     // address of the file that says so
  std::string kind;       // "domain XML", "hypervisor tables"
  std::string slot;       // where the machine has it
  std::string written;    // a device, or the id of a disk
  std::string disk_name;  // of the disk in the tables; may be empty
};

// What the definitions on a volume say.
std::vector<VolumeClaim> volume_claims(const VolumePtr& volume, const Context& context);

// The volume a claim means; empty pointer: none of these.
VolumePtr claimed_volume(const VolumeClaim& claim, const SpannedSets& sets);

// "disk vda of machine mail, by ...".
std::string in_words(const VolumeClaim& claim);

}  // namespace lantern
