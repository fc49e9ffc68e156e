#include "recover/sweep/finders/ext_finder.h"

#include "filesystem/ext/inode.h"
#include "filesystem/ext/journal.h"
#include "recover/sweep/finders/quick_look.h"

namespace lantern {
namespace {

constexpr std::size_t kMinRecord = 128;
constexpr std::uint32_t kJournalMark = 0x98393BC0;  // C0 3B 39 98

// 0 4 own inode  4 2 12  6 1 1  7 1 2, or 0  8 "."  0x0C 4 its folder's inode  0x10 2 length
// 0x12 1 2  0x13 1 2, or 0  0x14 ".."
std::optional<FolderHead> parse_head(ByteView sector) {
  if (le16(sector, 4) != 12 || u8(sector, 6) != 1 || le32(sector, 8) != '.' ||
      u8(sector, 0x12) != 2 || le16(sector, 0x14) != 0x2E2E)
    return std::nullopt;
  const std::uint8_t type = u8(sector, 7);
  const std::uint32_t own = le32(sector, 0), parent = le32(sector, 0x0C);
  const std::size_t length = le16(sector, 0x10);
  if ((type != 2 && type != 0) || u8(sector, 0x13) != type || own < 2 || parent < 2 ||
      length < 12 || length % 4 != 0)
    return std::nullopt;
  return FolderHead{0, own, parent};
}

}  // namespace

void ExtFinder::look(const SweptPiece& piece) {
  for (std::size_t at = 0; at + kSector <= piece.owned; at += kSector) {
    const std::byte* const start = piece.bytes.data() + at;
    // Most sectors are told by these: no "." where a folder has it, no mark of a journal, no inode
    // without a time of deletion.
    const bool may_have_inode = quick_le32(start + 0x14) == 0 || quick_le32(start + 0x94) == 0 ||
                                quick_le32(start + 0x114) == 0 || quick_le32(start + 0x194) == 0;
    const bool may_be_head = quick_le32(start + 8) == '.';
    const bool may_be_journal = quick_le32(start) == kJournalMark;
    if (!may_have_inode && !may_be_head && !may_be_journal) continue;
    const ByteView sector = piece.bytes.subspan(at, kSector);
    const Range own{piece.offset + at, kSector};
    if (auto head = may_be_head ? parse_head(sector) : std::nullopt) {
      head->offset = own.offset;
      heads_.add(*head);
      continue;
    }
    if (may_be_journal && ext::journal_span(sector) > 0) {
      journals_.add(own);
      continue;
    }
    for (std::size_t i = 0; i < kSector; i += kMinRecord)
      if (quick_le32(start + i + 0x14) == 0 &&
          ext::looks_like_inode(sector.subspan(i, kMinRecord))) {
        inodes_.add(own);
        break;
      }
  }
}

void ExtFinder::join(Finder& later) {
  const auto& other = static_cast<ExtFinder&>(later);
  heads_.join(other.heads_);
  inodes_.join(other.inodes_);
  journals_.join(other.journals_);
}

void ExtFinder::load(Database& database, std::uint64_t swept_to) {
  load_heads(database, "ext", swept_to, heads_);
  inodes_.load(database, swept_to);
  journals_.load(database, swept_to);
}

std::uint64_t ExtFinder::save(Database& database, std::uint64_t swept_to) {
  save_heads(database, "ext", heads_);
  inodes_.save(database);
  journals_.save(database);
  return swept_to;
}

}  // namespace lantern
