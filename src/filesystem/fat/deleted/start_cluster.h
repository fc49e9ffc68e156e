// The first cluster of a deleted file whose high half was wiped on deletion.
//
// Some systems zero the high 16 bits of a FAT32 slot's first cluster when they delete it. Every
// cluster with the same low half is then a candidate; free ones are weighed by what they begin with
// and by the high halves of the entries around.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "filesystem/fat/disk.h"

namespace lantern::fat {

// How well `start`, the first bytes of a cluster, suits a file of this name: -1 no, 0 silent, 1
// yes.
int content_suits(const std::string& name, ByteView start);

// What is known of the file besides its candidates.
struct Wanted {
  const std::string& name;
  std::uint32_t size_bytes = 0;
  std::uint32_t near = 0;     // a cluster close to which it was likely written
  bool halves_wiped = false;  // it is known that high halves were wiped on this volume
};

// The best of `candidates` (not empty, ascending; the first wins a tie).
std::uint32_t best_start(const Disk& disk, const std::vector<std::uint32_t>& candidates,
                         const Wanted& wanted);

// Whether the first sector of a cluster holds anything.
bool holds_something(const Disk& disk, std::uint32_t cluster);

}  // namespace lantern::fat
