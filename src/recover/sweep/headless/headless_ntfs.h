// NTFS volumes of which only loose records are left. Where a folder's record has its index, and
// where a block of that index lies, tell together how large clusters are and where the volume
// began; what most of them agree on counts.
//
// Thread-safety: a pure function of what it reads.
#pragma once

#include <cstdint>
#include <vector>

#include "lantern/byte_source.h"
#include "lantern/context.h"
#include "recover/sweep/finders/ntfs_finder.h"
#include "recover/sweep/headless/headless.h"

namespace lantern {

// `runs`: records that are no readable volume's. `starts`: where volumes may begin, for what has no
// index to tell by. Those with the most records first. Throws Error{stopped}.
std::vector<HeadlessVolume> headless_ntfs(const SourcePtr& disk, const std::vector<RecordRun>& runs,
                                          const std::vector<IndexBlock>& blocks,
                                          const std::vector<std::uint64_t>& starts,
                                          const Context& context);

}  // namespace lantern
