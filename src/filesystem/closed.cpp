#include "filesystem/closed.h"

#include "base/bytes.h"

namespace lantern {
namespace {

constexpr std::size_t kStart = 2048;  // bytes: the boot sector, or the superblock behind it

bool ext_was_closed(ByteView start) {
  constexpr std::size_t kSuperblock = 1024, kStateAt = 0x3A, kNeededAt = 0x60;
  constexpr std::uint32_t kCleanly = 1, kErrors = 2, kRecover = 4;
  const std::uint32_t state = le16(start, kSuperblock + kStateAt);
  return (state & kCleanly) != 0 && (state & kErrors) == 0 &&
         (le32(start, kSuperblock + kNeededAt) & kRecover) == 0;
}

bool fat_was_closed(const ByteSource& volume, ByteView start, bool wide) {
  constexpr std::size_t kSectorAt = 0x0B, kReservedAt = 0x0E;
  const std::size_t state_at = wide ? 0x41 : 0x25;
  constexpr std::uint32_t kDirty = 1;
  if ((u8(start, state_at) & kDirty) != 0) return false;
  // The second entry of the table, whose highest bits say so.
  const std::size_t width = wide ? 4 : 2;
  Bytes entry(width);
  const std::uint64_t table = std::uint64_t{le16(start, kReservedAt)} * le16(start, kSectorAt);
  if (volume.read(table + width, entry).length < width) return false;
  return wide ? (le32(entry, 0) & 1u << 27) != 0 : (le16(entry, 0) & 1u << 15) != 0;
}

}  // namespace

bool was_closed(const ByteSource& volume, const FileSystemFacts& facts) {
  constexpr std::size_t kExfatFlagsAt = 0x6A;
  constexpr std::uint32_t kExfatDirty = 2;
  Bytes start(kStart);
  if (volume.read(0, start).length < start.size()) return false;
  if (facts.format == "ext") return ext_was_closed(start);
  if (facts.format == "exfat") return (le16(start, kExfatFlagsAt) & kExfatDirty) == 0;
  // FAT12 has no such mark.
  if (facts.type == "fat16" || facts.type == "fat32")
    return fat_was_closed(volume, start, facts.type == "fat32");
  return true;
}

}  // namespace lantern
