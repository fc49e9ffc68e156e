// Sectors that may begin or end a volume, or hold a table of volumes: those with the mark of any
// format, told by a few lookups each. What they say is judged afterwards (volume_search.cpp).
//
// Thread-safety: one thread.
#pragma once

#include <vector>

#include "lantern/format/registry.h"
#include "recover/sweep/sweep.h"

namespace lantern {

struct SectorHit {
  const Format* format = nullptr;
  std::uint64_t offset = 0;  // bytes
};

class VolumeFinder final : public Finder {
 public:
  static constexpr std::size_t kMaxHits = 1u << 20;

  std::unique_ptr<Finder> fresh() const override { return std::make_unique<VolumeFinder>(); }
  void look(const SweptPiece& piece) override;
  void join(Finder& later) override;
  std::vector<SectorHit> hits;  // in order
  bool capped = false;          // there were more
};

}  // namespace lantern
