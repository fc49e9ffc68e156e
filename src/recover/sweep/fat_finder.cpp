#include "recover/sweep/fat_finder.h"

#include <algorithm>

#include "filesystem/fat/slots.h"

namespace lantern {

void FatFinder::look(const SweptPiece& piece) {
  constexpr std::uint32_t kDot = 0x2020202E;  // ".   "
  for (std::size_t at = 0; at + kSector <= piece.owned; at += kSector) {
    if (le32(piece.bytes, at) != kDot) continue;
    const auto start =
        fat::parse_folder_start(piece.bytes.subspan(at, fat::kFolderStartBytes), true);
    if (!start || start->self < 2) continue;
    if (heads.size() < kMaxHeads)
      heads.push_back({piece.offset + at, start->self, start->parent});
    else
      capped = true;
  }
}

void FatFinder::join(Finder& later) {
  const auto& other = static_cast<FatFinder&>(later);
  const std::size_t room = kMaxHeads - heads.size();
  capped = capped || other.capped || other.heads.size() > room;
  heads.insert(
      heads.end(), other.heads.begin(),
      other.heads.begin() + static_cast<std::ptrdiff_t>(std::min(room, other.heads.size())));
}

}  // namespace lantern
