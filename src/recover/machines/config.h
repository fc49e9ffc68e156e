// What a machine's configuration says, before any file is looked for. Open text forms only: XML
// settings of several hypervisors, key=value lines, OVF (DSP0243).
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
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
  bool damaged = false;     // it breaks off, or holds what no text has
};

// In any case.
bool ends_in(std::string_view name, std::string_view ending);
// Whether a name, the ending of a backup copy off, is one that configurations have.
bool may_be_config(std::string_view name);
// What a backup copy's name ends in ("-prev", "~"); the rest is the name it is a copy of.
std::string_view backup_ending(std::string_view name);

constexpr std::uint64_t kMaxConfig = 4u << 20;  // bytes
// Empty when the bytes are no such configuration.
std::optional<MachineConfig> read_config(const ByteSource& file, const std::string& name);

// Empty when `text` is no such configuration. `file_name` decides where the text alone does not.
std::optional<MachineConfig> parse_machine_xml(const std::string& text);
std::optional<MachineConfig> parse_machine_lines(const std::string& text,
                                                 const std::string& file_name);

}  // namespace lantern
