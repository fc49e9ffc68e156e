#include "recover/sweep/volume_finder.h"

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

}  // namespace lantern
