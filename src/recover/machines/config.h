// What a machine's configuration says, before any file is looked for. Open text forms only: XML
// settings of several hypervisors, key=value lines, OVF (DSP0243).
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "lantern/machines.h"

namespace lantern {

struct ConfigDisk {
  std::string slot;
  std::string file;  // as written
  std::string id;    // identity the file must have, as container ids are printed; or empty
};

struct MachineConfig {
  std::string kind;
  std::string name;
  std::vector<ConfigDisk> disks;
  std::vector<MachineSnapshot> snapshots;
  std::string saved_state;  // the file the configuration names, or empty
};

// Empty when `text` is no such configuration. `file_name` decides where the text alone does not.
std::optional<MachineConfig> parse_machine_xml(const std::string& text);
std::optional<MachineConfig> parse_machine_lines(const std::string& text,
                                                 const std::string& file_name);

}  // namespace lantern
