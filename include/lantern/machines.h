// Machines: virtual machines by their configurations, in a folder or on a disk, deleted ones too:
// the disks each of them names, what of its files is there, and how they come back together.
//
//   const MachinesFound found = find_machines(Address::parse("host.img"), {}, session);
//   for (const Machine& machine : found.machines) ...
//
// Thread-safety: may be called from any thread; the results are values.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lantern/container.h"
#include "lantern/file_system.h"
#include "lantern/host.h"
#include "lantern/nest/session.h"

namespace lantern {

struct MachineDisk {
  std::string slot;     // where it is attached: "SATA port 0", "scsi0:0"
  std::string written;  // the reference, as the configuration has it
  std::string address;  // the file it leads to; empty: none
  std::string why;      // why this file
  std::string format;
  std::uint64_t size_bytes = 0;  // virtual
  std::vector<ChainLink> chain;  // its parents, nearest first
  // When the reference leads nowhere: a file that has the identity or the name asked for.
  std::string candidate;
  std::string problem;  // why it cannot be opened, or what of it is missing; or empty
};

struct MachineSnapshot {
  std::string id;
  std::string name;
  std::string taken;  // as the configuration has it
};

enum class MachineState { off, running, suspended };
std::string_view to_string(MachineState state);

struct MachineFile {
  std::string address;
  std::string path;  // below the machine's folder; of a file elsewhere, from the root
  EntryState state = EntryState::active;
  std::uint64_t size_bytes = 0;
  std::optional<double> intact;  // as of an entry
  bool needed = false;           // the machine does not start without it
  bool stale_lock = false;       // left by a machine that no longer runs
  std::string written_as;        // the name that brings it back under, when its own is damaged
};

// What extraction is asked for, to bring a machine back.
struct MachineRestore {
  std::string address;                       // of the folder, or of the volume
  std::vector<std::string> ids;              // of the volume; none: all that is in the folder
  std::map<std::string, std::string> names;  // entry id to the name it must have
  bool deleted = false;
  bool active = false;  // of its files
  bool locks = false;   // there are lock files to be left out
};

struct Machine {
  std::string name;
  std::string address;  // of its folder
  std::string config;   // address of the file
  std::string kind;     // "settings XML", "key=value", "OVF", ...
  bool backup = false;  // only a backup copy of the configuration is left, or can be read
  EntryState found = EntryState::active;  // of the configuration
  std::vector<MachineDisk> disks;         // in the order the machine sees them
  std::vector<MachineSnapshot> snapshots;
  std::vector<MachineFile> files;
  std::vector<std::string> missing;  // in words, each; none: it is complete
  MachineState state = MachineState::off;
  std::string state_evidence;
  bool by_lock_file = false;              // that it runs is known by a lock file alone
  std::optional<MachineRestore> restore;  // empty: it lies in a folder of this computer

  bool complete() const { return missing.empty(); }
};

// A disk image that no machine names.
struct LooseDisk {
  std::string address;
  std::string format;
  EntryState state = EntryState::active;
  std::optional<double> intact;
  std::uint64_t size_bytes = 0;  // virtual
  std::vector<ChainLink> chain;
  std::vector<DiskVersion> snapshots;
  std::vector<std::string> holds;  // a line a volume
  std::string problem;             // why it cannot be opened, or empty
};

struct MachinesFound {
  std::vector<Machine> machines;
  std::vector<LooseDisk> loose;
};

struct MachineSearch {
  bool deleted = false;  // deleted machines and images too
  unsigned images = 2;   // how deep images are looked into for further machines; 0: not at all
};

// A folder of this computer or of an archive and those below it, a disk with all its volumes that
// can be read, a volume or a folder in one. Findings: disks that cannot be found, machines that run
// or are suspended, what is incomplete. Throws Error as Session::open does.
MachinesFound find_machines(const Address& address, const MachineSearch& search,
                            const Session& session);

// The folders of this computer alone: what their machines hold, and whether they run.
MachinesFound find_machines(const std::shared_ptr<const Neighbours>& folder,
                            const std::string& host_path, const Host& host, const Session& session);

// Whether a name is one that machines and their disks usually have: for a first look.
enum class MachineFileName { no, configuration, disk };
MachineFileName machine_file_name(std::string_view name);

}  // namespace lantern
