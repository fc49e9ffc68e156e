// The disks among the files of a folder.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "lantern/context.h"
#include "lantern/sources.h"

namespace lantern {

// Names of the files that are disks by their content: containers, and raw disks with a table or a
// volume of a known kind. Files that others lie on (parents, extents, later pieces) are left out.
std::vector<std::string> disks_in(const std::shared_ptr<const Neighbours>& folder,
                                  const Context& context);

// Of a path that does not exist on this computer, the one that was meant: with "::" before a volume
// for one ":", or a file of its folder with a name like it. Empty: nothing is like it.
std::string near_path(const std::string& path, const Context& context);

}  // namespace lantern
