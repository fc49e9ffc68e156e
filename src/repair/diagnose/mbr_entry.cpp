#include "repair/diagnose/mbr_entry.h"

#include <algorithm>

#include "base/lay.h"

namespace lantern {

MbrEntry mbr_entry(ByteView sector, std::size_t number) {
  const ByteView e = slice(sector, kMbrEntriesAt + number * kMbrEntryBytes, kMbrEntryBytes);
  return {u8(e, 0), u8(e, 4), le32(e, 8), le32(e, 12)};
}

std::uint8_t mbr_type_for(const FoundVolume& volume, bool lba) {
  if (volume.file_system == "ntfs" || volume.file_system == "exfat") return 0x07;
  if (volume.file_system == "fat32") return lba ? 0x0C : 0x0B;
  if (volume.file_system == "fat16")
    return lba ? 0x0E : volume.range.length < (32u << 20) ? 0x04 : 0x06;
  if (volume.file_system == "fat12") return 0x01;
  if (volume.file_system == "swap") return 0x82;
  if (volume.file_system == "lvm") return 0x8E;
  if (volume.file_system == "md") return 0xFD;
  return 0x83;
}

bool mbr_type_may_be(std::uint8_t type, const std::string& holds) {
  const std::uint8_t plain = type >= 0x11 && type <= 0x1E ? type & 0xEF : type;
  const auto one_of = [&](std::initializer_list<int> types) {
    return std::find(types.begin(), types.end(), int{plain}) != types.end() ||
           std::find(types.begin(), types.end(), int{type}) != types.end();
  };
  if (holds == "ntfs" || holds == "exfat") return one_of({0x07, 0x12, 0x27});
  if (holds == "fat32") return one_of({0x0B, 0x0C, 0x12, 0x27, 0xEF});
  if (holds.starts_with("fat")) return one_of({0x01, 0x04, 0x06, 0x0E, 0x12, 0x27, 0xEF});
  // Of what is not read here, systems look at the volume, not at the type.
  if (!holds.starts_with("ext")) return true;
  return type == 0x83 || type == 0x93 || type == 0xFD || type == 0x8E;
}

// With 255 heads and 63 sectors, as makers lay it now.
void lay_chs(std::span<std::byte> at, std::uint64_t sector) {
  constexpr std::uint64_t kHeads = 255, kTrack = 63;
  std::uint64_t cylinder = sector / (kHeads * kTrack);
  std::uint64_t head = sector / kTrack % kHeads;
  std::uint64_t within = sector % kTrack + 1;
  if (cylinder > 1023) {
    cylinder = 1023;
    head = 254;
    within = 63;
  }
  at[0] = static_cast<std::byte>(head);
  at[1] = static_cast<std::byte>(within | (cylinder >> 2 & 0xC0));
  at[2] = static_cast<std::byte>(cylinder);
}

void lay_mbr_entry(std::span<std::byte> sector, std::size_t number, const MbrEntry& entry,
                   std::uint64_t base) {
  const auto at = sector.subspan(kMbrEntriesAt + number * kMbrEntryBytes, kMbrEntryBytes);
  at[0] = static_cast<std::byte>(entry.flag);
  lay_chs(at.subspan(1, 3), base + entry.start);
  at[4] = static_cast<std::byte>(entry.type);
  lay_chs(at.subspan(5, 3), base + entry.start + entry.sectors - 1);
  lay_le32(at, 8, entry.start);
  lay_le32(at, 12, entry.sectors);
}

}  // namespace lantern
