// What the file systems' own logs will write over, and what a sleeping system has in mind.
//
// Thread-safety: the functions may be called from any thread.
#pragma once

#include <optional>
#include <vector>

#include "repair/facets.h"

namespace lantern::repair {

std::optional<Refusal> guard_ntfs(const VolumeLayer& volume, const std::vector<Range>& touched,
                                  const Context& context);
std::optional<Refusal> guard_ext(const VolumeLayer& volume, const std::vector<Range>& touched,
                                 const Context& context);

}  // namespace lantern::repair
