// FAT volumes of which only folders are left. Each says which cluster it begins in: two of them
// tell how large clusters are and where the first begins; what most agree on counts. Tables and the
// root folder are looked for where that puts them.
//
// Thread-safety: a pure function of what it reads.
#pragma once

#include <functional>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/context.h"
#include "recover/sweep/finders/fat_finder.h"
#include "recover/sweep/headless/headless.h"

namespace lantern {

// `heads`: folders that no readable volume leads to. `is_taken`: whether a byte of the disk is a
// readable volume's table or root folder. Those with the most folders first. Throws Error{stopped}.
std::vector<HeadlessVolume> headless_fat(const SourcePtr& disk,
                                         const std::vector<FolderHead>& heads,
                                         const std::function<bool(std::uint64_t)>& is_taken,
                                         const Context& context);

}  // namespace lantern
