#include "recover/sweep/finders/exfat_finder.h"

#include "filesystem/exfat/entry_set.h"
#include "recover/sweep/finders/quick_look.h"

namespace lantern {
namespace {

using exfat::kSlotBytes;

constexpr std::uint8_t kInUse = 0x80;
constexpr std::uint8_t kBitmap = 0x81, kCapitals = 0x82, kLabel = 0x83;
constexpr std::uint64_t kMaxBitmap = std::uint64_t{1} << 29;
constexpr std::uint64_t kMaxCapitals = 0x20000;

// A slot of any kind that stands in a folder.
bool is_slot(std::uint8_t type) {
  switch (type | kInUse) {
    case 0x85:
    case 0xC0:
    case 0xC1:
    case kBitmap:
    case kCapitals:
    case kLabel:
      return true;
    default:
      return false;
  }
}

// A file's slot with a stream's behind it.
bool may_be_set(const std::byte* at, std::size_t bytes) {
  const auto is = [&](std::size_t offset, std::uint8_t type) {
    return (std::to_integer<std::uint8_t>(at[offset]) & ~kInUse) == type;
  };
  return bytes > kSlotBytes && is(0, 0x05) && is(kSlotBytes, 0x40);
}

// Units 0 to 7, each its own capital: so all tables begin.
bool begins_capitals(ByteView sector) {
  return le64(sector, 0) == 0x0003000200010000 && le64(sector, 8) == 0x0007000600050004;
}

}  // namespace

bool begins_exfat_root(ByteView sector) {
  bool bitmap = false, capitals = false;
  for (std::size_t at = 0; at + kSlotBytes <= sector.size() && at < 6 * kSlotBytes;
       at += kSlotBytes) {
    const std::uint8_t type = u8(sector, at);
    const std::uint32_t cluster = le32(sector, at + 0x14);
    const std::uint64_t bytes = le64(sector, at + 0x18);
    if (type == kBitmap)
      bitmap = u8(sector, at + 1) <= 1 && cluster >= 2 && bytes > 0 && bytes <= kMaxBitmap;
    else if (type == kCapitals)
      capitals = cluster >= 2 && bytes > 0 && bytes <= kMaxCapitals;
    else if (at == 0 && (type | kInUse) != kLabel)
      return false;
  }
  return bitmap && capitals;
}

void ExfatFinder::look(const SweptPiece& piece) {
  for (std::size_t at = 0; at + kSector <= piece.owned; at += kSector) {
    const std::byte* const start = piece.bytes.data() + at;
    const bool may_be_capitals = quick_le32(start) == 0x00010000;
    if (!may_be_capitals && !is_slot(std::to_integer<std::uint8_t>(*start))) continue;
    const ByteView sector = piece.bytes.subspan(at, kSector);
    const std::uint64_t offset = piece.offset + at;
    if (may_be_capitals && begins_capitals(sector)) {
      heads_.add({offset, kCapitals, 0});
      continue;
    }
    const std::uint8_t first = u8(sector, 0) | kInUse;
    const bool is_root = first >= kBitmap && first <= kLabel && begins_exfat_root(sector);
    // A folder goes on here if the sector before ends with a slot, too.
    const bool goes_on = at > 0 && is_slot(u8(piece.bytes, at - kSlotBytes));
    if (is_root) heads_.add({offset, kRoot, 0});
    bool any = false;
    for (std::size_t slot = 0; slot < kSector; slot += kSlotBytes) {
      if (!may_be_set(start + slot, piece.bytes.size() - at - slot)) continue;
      const auto set = exfat::parse_set(piece.bytes.subspan(at + slot));
      if (!set) continue;
      if (!any && !goes_on && !is_root) heads_.add({offset, slot == 0 ? kFolder : kMiddle, 0});
      any = true;
      if (set->folder() && set->first_cluster >= 2)
        entries_.add({offset + slot, set->first_cluster});
    }
  }
}

void ExfatFinder::join(Finder& later) {
  const auto& other = static_cast<ExfatFinder&>(later);
  heads_.join(other.heads_);
  entries_.join(other.entries_);
}

void ExfatFinder::load(Database& database, std::uint64_t swept_to) {
  load_heads(database, "exfat", swept_to, heads_);
  Statement rows =
      database.prepare("SELECT offset, cluster FROM folder_entry WHERE offset < ? ORDER BY offset");
  rows.bind(1, swept_to);
  while (rows.step()) entries_.add({rows.number(0), static_cast<std::uint32_t>(rows.number(1))});
  entries_.each_new([](const FolderEntry&) {});
}

std::uint64_t ExfatFinder::save(Database& database, std::uint64_t swept_to) {
  save_heads(database, "exfat", heads_);
  Statement add = database.prepare("INSERT OR IGNORE INTO folder_entry VALUES(?, ?)");
  entries_.each_new([&](const FolderEntry& entry) {
    add.bind(1, entry.offset).bind(2, std::uint64_t{entry.cluster}).run();
  });
  return swept_to;
}

}  // namespace lantern
