// Sectors that may begin or end a volume, or hold a table of volumes: those with the mark of any
// format, told by a few lookups each. What they say is judged afterwards (volume_search.cpp).
//
// Thread-safety: one thread.
#pragma once

#include <memory>
#include <vector>

#include "lantern/format/registry.h"
#include "recover/sweep/finders/catalog_finder.h"
#include "recover/sweep/finders/kept.h"

namespace lantern {

struct SectorHit {
  const Format* format = nullptr;
  std::uint64_t offset = 0;  // bytes
};

class VolumeFinder final : public CatalogFinder {
 public:
  std::unique_ptr<Finder> fresh() const override { return std::make_unique<VolumeFinder>(); }
  void look(const SweptPiece& piece) override;
  void join(Finder& later) override;
  void load(Database& database, std::uint64_t swept_to) override;
  std::uint64_t save(Database& database, std::uint64_t swept_to) override;
  bool capped() const override { return hits_.capped(); }
  std::vector<Count> counts() const override;

  const std::vector<SectorHit>& hits() const { return hits_.all(); }

 private:
  Kept<SectorHit> hits_;
};

}  // namespace lantern
