#include "recover/sweep/volume_finder.h"

namespace lantern {
namespace {

constexpr std::size_t kMaxHits = 1u << 20;

}  // namespace

void VolumeFinder::look(std::uint64_t offset, ByteView piece) {
  const Registry& formats = known_formats();
  for (std::size_t at = 0; at + kSector <= piece.size(); at += kSector) {
    const std::byte* const sector = piece.data() + at;
    if (!formats.may_mark(sector)) continue;
    formats.marks_of(sector, [&](const Format& format) {
      if (hits.size() < kMaxHits) hits.push_back({&format, offset + at});
    });
  }
}

}  // namespace lantern
