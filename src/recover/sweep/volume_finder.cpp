#include "recover/sweep/volume_finder.h"

#include <algorithm>

namespace lantern {

void VolumeFinder::look(const SweptPiece& piece) {
  const Registry& formats = known_formats();
  for (std::size_t at = 0; at + kSector <= piece.owned; at += kSector) {
    const std::byte* const sector = piece.bytes.data() + at;
    if (!formats.may_mark(sector)) continue;
    formats.marks_of(sector, [&](const Format& format) {
      if (hits.size() < kMaxHits)
        hits.push_back({&format, piece.offset + at});
      else
        capped = true;
    });
  }
}

void VolumeFinder::join(Finder& later) {
  const auto& other = static_cast<VolumeFinder&>(later);
  const std::size_t room = kMaxHits - hits.size();
  capped = capped || other.capped || other.hits.size() > room;
  hits.insert(hits.end(), other.hits.begin(),
              other.hits.begin() + static_cast<std::ptrdiff_t>(std::min(room, other.hits.size())));
}

}  // namespace lantern
