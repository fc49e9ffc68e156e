// What partition tables tell of where a loose piece of a disk belongs: a boot record begins the
// disk, a GPT header names its own sector.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <vector>

#include "lantern/container.h"
#include "lantern/volume_table.h"

namespace lantern {

std::unique_ptr<PlaceFinder> table_places(const LoosePieces& loose, const Context& context);

// The size of a disk by the place its GPT gives its copy, which is the last sector. 0: not known.
std::uint64_t disk_bytes_inside(const SourcePtr& known);

// Where a volume of so many bytes begins: where its boot sector says (`said`; 0: it does not), if a
// partition does or none is known; else in the one partition it fills; else, when it fills the
// disk, at its start. Empty: not known.
std::optional<std::uint64_t> volume_start(const std::vector<VolumeRow>& rows,
                                          std::uint64_t disk_bytes, std::uint64_t volume_bytes,
                                          std::uint64_t said);

}  // namespace lantern
