// Disks found through two levels of tables whose entries are offsets in the file: the small formats
// that need no more than that.
#pragma once

#include <functional>
#include <memory>
#include <string>

#include "container/inflate.h"
#include "container/mapped_disk.h"

namespace lantern {

struct TwoLevel {
  std::string format;  // for messages
  std::uint64_t level1_offset = 0;
  std::uint64_t table_entries = 0;  // of level 2
  std::uint64_t cluster_bytes = 0;
  std::uint64_t disk_bytes = 0;
  bool big_endian = false;
  // The run an entry of level 2 stands for; `range` lies within its cluster.
  std::function<Run(std::uint64_t entry, Range range)> run_of;
  Packing packing = Packing::deflate;
};

std::shared_ptr<const BlockMap> make_two_level_map(const SourcePtr& file, TwoLevel layout,
                                                   const Context& context);

}  // namespace lantern
