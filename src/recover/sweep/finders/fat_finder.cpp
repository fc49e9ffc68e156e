#include "recover/sweep/finders/fat_finder.h"

#include "filesystem/fat/slots.h"
#include "recover/sweep/finders/quick_look.h"

namespace lantern {

void FatFinder::look(const SweptPiece& piece) {
  constexpr std::uint32_t kDot = 0x2020202E;  // ".   "
  for (std::size_t at = 0; at + kSector <= piece.owned; at += kSector) {
    if (quick_le32(piece.bytes.data() + at) != kDot) continue;
    const auto start =
        fat::parse_folder_start(piece.bytes.subspan(at, fat::kFolderStartBytes), true);
    if (start && start->self >= 2) heads_.add({piece.offset + at, start->self, start->parent});
  }
}

void FatFinder::load(Database& database, std::uint64_t swept_to) {
  load_heads(database, "fat", swept_to, heads_);
}

std::uint64_t FatFinder::save(Database& database, std::uint64_t swept_to) {
  save_heads(database, "fat", heads_);
  return swept_to;
}

}  // namespace lantern
