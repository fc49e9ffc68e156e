// VolumeTable: the partition table of a disk, read as far as it goes.
//
//   const VolumeTable table = read_volume_table(file, {}, known_formats(), context);
//   for (const VolumeRow& row : table.rows) ...
//
// Thread-safety: reading is; the results are values.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/context.h"
#include "lantern/format/registry.h"

namespace lantern {

struct VolumeRow {
  std::uint64_t number = 0;  // as the table has it: MBR 1-4, logical from 5; GPT entry number
  Range range;               // bytes of the disk; may reach past its end (then a finding says so)
  std::string type;          // what the table says it is, in words
  std::string type_code;     // "0x0c" or a GUID
  std::string name;          // GPT partition name
  std::string uuid;          // GPT partition GUID
  bool active = false;       // the MBR boot flag, or the GPT legacy boot attribute
  bool system = false;       // a boot, recovery or firmware volume by its type
  bool spans = false;        // of an array or group: its range is of itself, and of no disk
};

struct VolumeTable {
  std::string scheme;               // its name in the registry: "gpt", "mbr"; empty: none is there
  std::uint32_t sector_size = 512;  // bytes
  std::string id;                   // disk signature or disk GUID
  std::vector<VolumeRow> rows;

  bool is_there() const { return !scheme.empty(); }
};

// Reads the partition table by every scheme of the registry, at the given sector size, else the
// source's own, else 512 and 4096, whichever the volumes agree with. A disk without a table gives
// no scheme and no rows. Damage becomes findings; never throws for it. `formats`: what tells
// whether something begins where a table leads.
VolumeTable read_volume_table(const SourcePtr& disk, std::optional<std::uint32_t> sector_size,
                              const Registry& formats, const Context& context);

}  // namespace lantern
