// The packed grains of a stream-optimised VMDK whose end is lost: found one behind the other by
// their markers, each of which names the sector it belongs to.
#pragma once

#include <memory>

#include "container/mapped_disk.h"

namespace lantern {

struct GrainScan {
  std::uint64_t from = 0;  // byte of the file the grains begin at
  std::uint64_t grain_bytes = 0;
  std::uint64_t disk_bytes = 0;
};

// Grains that no marker was found for are lost: the tables that would say they are empty are.
std::shared_ptr<const BlockMap> scan_packed_grains(const SourcePtr& file, const GrainScan& scan,
                                                   const Context& context);

}  // namespace lantern
