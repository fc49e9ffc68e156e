#include "repair/diagnose/mbr_entry.h"

#include "base/store.h"

namespace lantern::repair {

MbrEntry mbr_entry(ByteView sector, std::size_t number) {
  const ByteView e = slice(sector, kMbrEntriesAt + number * kMbrEntryBytes, kMbrEntryBytes);
  return {u8(e, 0), u8(e, 4), le32(e, 8), le32(e, 12)};
}

// With 255 heads and 63 sectors, as makers lay it now.
void store_chs(std::span<std::byte> at, std::uint64_t sector) {
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

void store_mbr_entry(std::span<std::byte> sector, std::size_t number, const MbrEntry& entry,
                     std::uint64_t base) {
  const auto at = sector.subspan(kMbrEntriesAt + number * kMbrEntryBytes, kMbrEntryBytes);
  at[0] = static_cast<std::byte>(entry.flag);
  store_chs(at.subspan(1, 3), base + entry.start);
  at[4] = static_cast<std::byte>(entry.type);
  store_chs(at.subspan(5, 3), base + entry.start + entry.sectors - 1);
  store_le32(at, 8, entry.start);
  store_le32(at, 12, entry.sectors);
}

}  // namespace lantern::repair
