// One entry of a table of four volumes, as it is stored (layout: volume/mbr.h), and laid anew.
//
// Thread-safety: all functions are pure.
#pragma once

#include <span>

#include "base/bytes.h"
#include "lantern/byte_source.h"

namespace lantern::repair {

constexpr std::size_t kMbrEntriesAt = 446;
constexpr std::size_t kMbrEntryBytes = 16;
constexpr std::uint64_t kMaxMbrSectors = 0xFFFFFFFF;

struct MbrEntry {
  std::uint8_t flag = 0, type = 0;
  std::uint64_t start = 0, sectors = 0;  // in sectors
  bool used() const { return type != 0 && sectors != 0; }
  bool extended() const { return type == 0x05 || type == 0x0F || type == 0x85; }
  Range range() const { return {start, sectors}; }
};

// `number`: 0 to 3.
MbrEntry mbr_entry(ByteView sector, std::size_t number);

// `base`: the sector entry.start counts from, for the places as old firmware counts them.
void store_mbr_entry(std::span<std::byte> sector, std::size_t number, const MbrEntry& entry,
                     std::uint64_t base);
// A sector's place as old firmware counts it, in three bytes.
void store_chs(std::span<std::byte> at, std::uint64_t sector);

}  // namespace lantern::repair
