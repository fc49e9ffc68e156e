// The machines whose configurations lie in one folder, and the disks each of them names.
//
// Thread-safety: any thread.
#pragma once

#include <map>
#include <memory>
#include <set>
#include <string>
#include <vector>

#include "lantern/machines.h"
#include "recover/machines/config.h"

namespace lantern {

struct FolderOfMachines {
  std::shared_ptr<const Neighbours> folder;
  std::string host_path;  // on this computer, whose processes may hold its files; else empty
  // Where references may lead too, the nearest first.
  std::vector<std::shared_ptr<const Neighbours>> above = {};
  std::vector<std::string> disks = {};  // on this computer: addresses of all disks in the folder
};

// A machine with the addresses of all files it cannot start without.
struct FoundMachine {
  Machine machine;
  std::string config_name;  // of the file
  std::set<std::string> needs;
  std::map<std::string, std::vector<std::string>> extents;  // of a disk, by its address
  std::vector<std::string> references;  // file names, as the configuration writes them

  // Addresses of all files that hold a disk: its own, its extents and its parents.
  std::vector<std::string> files_of(const MachineDisk& disk) const;
};

// `host`: asked who holds the files; may be empty.
std::vector<FoundMachine> machines_of(const FolderOfMachines& where, const Host* host,
                                      const Session& session);

// A file of `folder`, opened as the disk it is. Findings go nowhere: what is damaged is in
// `problem`.
struct OpenedImage {
  Container container;
  std::string problem;  // why it cannot be opened, or what of it is missing; or empty
};
OpenedImage open_image(const SourcePtr& file, const Surroundings& around, const Context& context);

}  // namespace lantern
