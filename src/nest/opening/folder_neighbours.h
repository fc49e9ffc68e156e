// The other files of a folder in a file system, for parents, extents and pieces that lie there.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "lantern/address.h"
#include "lantern/file_system.h"
#include "lantern/sources.h"

namespace lantern {

// `volume`: the address the folder's path follows.
std::shared_ptr<const Neighbours> folder_neighbours(std::shared_ptr<const FileSystem> file_system,
                                                    std::vector<std::string> folder,
                                                    Address volume);

}  // namespace lantern
