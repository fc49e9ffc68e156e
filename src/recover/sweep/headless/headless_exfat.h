// exFAT volumes of which only folders are left. An entry says in which cluster its folder begins;
// where folders begin is known: what most of the two agree on is how large clusters are and where
// the first one is. The FAT and the root folder are looked for where that puts them.
//
// Thread-safety: a pure function of what it reads.
#pragma once

#include <functional>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/context.h"
#include "recover/sweep/finders/exfat_finder.h"
#include "recover/sweep/headless/headless.h"

namespace lantern {

// What no readable volume accounts for. `is_taken`: whether a byte of the disk is a readable
// volume's. Those with the most folders first. Throws Error{stopped}.
std::vector<HeadlessVolume> headless_exfat(const SourcePtr& disk,
                                           const std::vector<FolderHead>& heads,
                                           const std::vector<FolderEntry>& entries,
                                           const std::function<bool(std::uint64_t)>& is_taken,
                                           const Context& context);

}  // namespace lantern
