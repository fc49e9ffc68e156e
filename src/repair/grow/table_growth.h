// A volume made longer in its partition table, up to the next one or the end of the disk (layouts:
// volume/mbr.h, volume/gpt_layout.h). The spare copy of a GPT moves to the end.
//
// Thread-safety: pure; reads the disk.
#pragma once

#include "lantern/nest/session.h"
#include "lantern/repair.h"

namespace lantern::repair {

// Volumes end at a multiple of this, where they are made longer; bytes.
constexpr std::uint64_t kGrownAlignment = 4096;

// No writes: nothing follows it. Throws Error{refused, unsupported}.
RepairStep lengthen_volume(const DiskLayer& disk, const VolumeLayer& volume);

}  // namespace lantern::repair
