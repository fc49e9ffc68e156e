// Sectors that may begin or end a volume, or hold a table of volumes: told by a few bytes each, so
// that most sectors cost two looks. What they say is judged afterwards (volume_search.cpp).
//
// Thread-safety: one thread.
#pragma once

#include <vector>

#include "recover/sweep/sweep.h"

namespace lantern {

struct SectorHit {
  enum class Kind { boot_sector, superblock, gpt_header, named };
  Kind kind{};
  std::uint64_t offset = 0;  // bytes
};

class VolumeFinder final : public Finder {
 public:
  void look(std::uint64_t offset, ByteView piece) override;
  std::vector<SectorHit> hits;  // in order, a million at most
};

}  // namespace lantern
