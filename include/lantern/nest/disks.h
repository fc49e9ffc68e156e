// The disks of a computer under names that last, and the one that a name leads to.
//
//   for (const NamedDisk& each : name_disks(*this_host(), context))
//     const Target disk = session.open(Address::parse("disk:" + each.name));
//
// Thread-safety: pure functions.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "lantern/context.h"
#include "lantern/host.h"

namespace lantern {

struct NamedDisk {
  std::string name;      // "disk:" and this is its address, also after the next start
  std::string named_by;  // in words: "its serial number"
  HostDisk facts;
  bool by_content = false;  // the name changes when what the disk holds does
};

// A serial number that no other disk has; else a WWN; of a loop device the file behind it. Where
// neither is, the port and what the disk says it holds: such a disk is read for its name.
std::vector<NamedDisk> name_disks(const Host& host, const Context& context);

// The one disk of this name, serial number or WWN, or with this in its model, serial number or the
// file behind it (four characters or more). Throws Error{usage} when there are several, with their
// names, and Error{not_found}.
NamedDisk find_disk(const Host& host, std::string_view name, const Context& context);

}  // namespace lantern
