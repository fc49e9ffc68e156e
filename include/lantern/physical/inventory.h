// Inventory: the disks of a computer, by names that last, with what is on each and what uses it.
//
//   for (const InventoryDisk& each : take_inventory(session))
//     if (!each.disk.facts.in_use()) ...
//
// Thread-safety: the function may be called from any thread; what it returns are values.
#pragma once

#include <string>
#include <vector>

#include "lantern/json.h"
#include "lantern/nest/session.h"

namespace lantern {

struct InventoryPart {
  std::string address;  // "disk:NAME::2"
  std::uint64_t number = 0;
  Range range;          // bytes of the disk
  std::string content;  // in words: "NTFS", "LVM physical volume"; empty: not known
  std::string label, uuid;
  std::vector<HostUse> uses;
};

struct InventoryDisk {
  std::string address;  // "disk:NAME"
  NamedDisk disk;
  std::string table;                 // "gpt", "mbr"; empty: it has none
  std::vector<InventoryPart> parts;  // without a table one, of the whole disk, when it is known
  std::string unread;  // why its content is not known: it cannot be opened; else empty
  std::string hidden;  // what the disk says it had and the system does not show, in words
};

// Asks the host of the session, and looks at the first sectors of each disk. A disk that cannot be
// read is in the list all the same. Throws Error{unsupported} when the session has no host.
std::vector<InventoryDisk> take_inventory(const Session& session);

// The same of one disk.
InventoryDisk look_at_disk(const Session& session, NamedDisk disk);

// Its object, as `lantern disks --json` has it.
void write_json(JsonWriter& json, const InventoryDisk& disk);

}  // namespace lantern
