// Machines: the configurations of virtual machines in a folder, the disks each of them names,
// whether it runs, and every reference that leads nowhere.
//
//   const MachineFolder found = find_machines(folder, "/machines", *this_host(), session);
//   for (const Machine& machine : found.machines) ...
//
// Thread-safety: may be called from any thread; the results are values.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lantern/container.h"
#include "lantern/host.h"
#include "lantern/nest/session.h"

namespace lantern {

struct MachineDisk {
  std::string slot;     // where it is attached: "SATA port 0", "scsi0:0"
  std::string written;  // the reference, as the configuration has it
  std::string place;    // the file it leads to; empty: none
  std::string why;      // why this file
  std::string format;
  std::uint64_t disk_bytes = 0;
  std::vector<ChainLink> chain;  // its parents, nearest first
  // When the reference leads nowhere: a file that has the identity or the name asked for.
  std::string candidate;
  std::string problem;  // why the disk cannot be opened, or empty
};

struct MachineSnapshot {
  std::string id;
  std::string name;
  std::string taken;  // as the configuration has it
};

enum class MachineState { off, running, suspended };
std::string_view to_string(MachineState state);

struct Machine {
  std::string name;
  std::string config;              // the file
  std::string kind;                // "settings XML", "key=value", "OVF", ...
  bool backup = false;             // only a backup copy of the configuration is left
  std::vector<MachineDisk> disks;  // in the order the machine sees them
  std::vector<MachineSnapshot> snapshots;
  MachineState state = MachineState::off;
  std::string state_evidence;
  bool by_lock_file = false;  // that it runs is known by a lock file alone
};

struct MachineFolder {
  std::vector<Machine> machines;
  std::vector<std::string> loose;  // disks in the folder that no machine names
};

// A folder of the host (`host_path` says which; empty: a folder inside a disk or an archive), and
// those below it. Findings: disks that cannot be found, machines that run or are suspended.
MachineFolder find_machines(const std::shared_ptr<const Neighbours>& folder,
                            const std::string& host_path, const Host& host, const Session& session);

}  // namespace lantern
