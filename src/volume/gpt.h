// GUID partition table, as gpt_layout.h has it.
#pragma once

#include <optional>

#include "lantern/volume_table.h"

namespace lantern {

// Empty when neither copy is there. Either copy is used when the other is corrupt.
std::optional<VolumeTable> read_gpt(const SourcePtr& disk, std::uint32_t sector_size,
                                    const Context& context);

}  // namespace lantern
