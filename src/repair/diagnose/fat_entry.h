// One entry of a FAT as bytes (layout: filesystem/fat/table.h).
//
// Thread-safety: pure functions.
#pragma once

#include "base/store.h"
#include "filesystem/fat/boot_sector.h"

namespace lantern::repair {

// The largest value of an entry: the end of a chain.
inline std::uint32_t max_fat_entry(fat::Width width) {
  return width == fat::Width::fat12 ? 0xFFFu : width == fat::Width::fat16 ? 0xFFFFu : 0x0FFFFFFFu;
}

// `table`: a FAT from its first entry on, long enough for the entry of `cluster`.
inline void store_fat_entry(Bytes& table, fat::Width width, std::uint32_t cluster,
                            std::uint32_t value) {
  if (width == fat::Width::fat32) {
    const std::uint32_t kept = le32(table, std::size_t{cluster} * 4) & 0xF0000000;
    store_le32(table, std::size_t{cluster} * 4, kept | value);
  } else if (width == fat::Width::fat16) {
    store_le16(table, std::size_t{cluster} * 2, value);
  } else {
    const std::size_t at = std::size_t{cluster} * 3 / 2;
    const unsigned pair = le16(table, at);
    store_le16(table, at, cluster % 2 == 0 ? (pair & 0xF000) | value : (pair & 0xF) | value << 4);
  }
}

}  // namespace lantern::repair
