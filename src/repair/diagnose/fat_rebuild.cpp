#include "repair/diagnose/fat_rebuild.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <bit>

#include "base/checked.h"
#include "base/store.h"
#include "repair/diagnose/diagnosis.h"

namespace lantern::repair {
namespace {

using fat::Geometry;
using fat::Width;

constexpr std::uint64_t kMaxTable = 64u << 20;
// Of all that a fit asks, without the start of the first table and files by its chains.
constexpr unsigned kPointsOfOneTable = 8;

// A volume whose boot sector is lost, worked out from what lies behind it.
class Rebuild {
 public:
  Rebuild(const ByteSource& volume, std::uint64_t length)
      : volume_(volume), sectors_(length / kSector) {}

  std::optional<RebuiltFat> run(bool by_one_table) {
    constexpr std::size_t kMaxReserved = 256;
    for (std::size_t reserved = 1; reserved <= kMaxReserved; ++reserved) {
      const Bytes start = read_bytes(volume_, reserved * kSector, kSector);
      if (start.size() < kSector) break;
      const std::uint8_t media = u8(start, 0);
      if ((media != 0xF0 && media < 0xF8) || u8(start, 1) != 0xFF) continue;
      for (const Width width : {Width::fat32, Width::fat16, Width::fat12}) {
        if (!begins_table(start, width)) continue;
        if (const std::uint64_t size = table_sectors(reserved, start); size != 0)
          try_width(width, reserved, size, media, false);
      }
      if (best_) return best_;
    }
    if (by_one_table) by_second_table();
    return best_;
  }

 private:
  // Of the first table the beginning is lost as well: the second says where the first ends, and the
  // size of the volume how long they are.
  void by_second_table() {
    constexpr std::uint64_t kMaxBefore = 64;  // reserved sectors
    constexpr std::size_t kMaxTried = 32;     // sectors that look like the beginning of a table
    std::size_t tried = 0;
    const std::uint64_t most = std::min<std::uint64_t>(sectors_ / 2, kMaxTable / kSector);
    for (std::uint64_t second = 2; second <= most && !best_; ++second) {
      const Bytes start = read_bytes(volume_, second * kSector, kSector);
      if (start.size() < kSector) return;
      const std::uint8_t media = u8(start, 0);
      if ((media != 0xF0 && media < 0xF8) || u8(start, 1) != 0xFF || is_erased(start)) continue;
      if (++tried > kMaxTried) return;
      for (const Width width : {Width::fat32, Width::fat16, Width::fat12}) {
        if (!begins_table(start, width)) continue;
        const std::uint64_t last = std::min(kMaxBefore, second - 1);
        for (std::uint64_t reserved = 1; reserved <= last; ++reserved)
          try_width(width, static_cast<std::size_t>(reserved), second - reserved, media, true);
      }
      // With nothing that fits behind it, what looks like a table is none.
      if (best_ && best_->fit.points < kPointsOfOneTable) best_.reset();
      if (best_) best_->by_second_table = true;
    }
  }

  static bool is_erased(ByteView sector) {
    return std::all_of(sector.begin(), sector.end(),
                       [](std::byte b) { return b == std::byte{0xFF}; });
  }

  static bool begins_table(ByteView start, Width width) {
    if (width == Width::fat32)
      return (u8(start, 3) & 0x0F) == 0x0F && u8(start, 2) == 0xFF && le32(start, 4) >= 0x07FFFFFF;
    if (width == Width::fat16) return le16(start, 2) >= 0x3FFF;
    return u8(start, 2) == 0xFF;
  }

  // The second table begins like the first, and goes on like it.
  std::uint64_t table_sectors(std::size_t reserved, ByteView start) const {
    const std::uint64_t most = std::min<std::uint64_t>(sectors_ / 2, kMaxTable / kSector);
    for (std::uint64_t size = 1; size <= most; ++size) {
      const Bytes other = read_bytes(volume_, (reserved + size) * kSector, kSector);
      if (other.size() < kSector || !std::equal(other.begin(), other.begin() + 16, start.begin()))
        continue;
      const std::size_t looked =
          static_cast<std::size_t>(std::min<std::uint64_t>(size, 64)) * kSector;
      const Bytes a = read_bytes(volume_, reserved * kSector, looked);
      const Bytes b = read_bytes(volume_, (reserved + size) * kSector, looked);
      std::size_t same = 0;
      for (std::size_t i = 0; i < looked; ++i) same += a[i] == b[i] ? 1u : 0u;
      if (same * 16 >= looked * 15) return size;
    }
    return 0;
  }

  void try_width(Width width, std::size_t reserved, std::uint64_t size, std::uint8_t media,
                 bool by_second) {
    const bool wide = width == Width::fat32;
    const std::vector<std::uint64_t> roots =
        wide ? std::vector<std::uint64_t>{0}
             : std::vector<std::uint64_t>{512, 224, 240, 112, 256, 1024, 64, 128, 192, 16, 32, 48};
    for (const std::uint64_t root : roots)
      for (std::uint64_t cluster = 1; cluster <= 128; cluster *= 2) {
        Bytes sector = made(width, reserved, size, media, root, cluster);
        const auto g = fat::parse_boot_sector(sector);
        if (!g || g->width != width) continue;
        if (by_second && (!fat::length_fits(*g) || !has_valid_entries(*g, 1))) continue;
        const fat::Fit fit = fat::fit(*g, volume_);
        // Folders that are not where it puts them say that it is wrong, whatever else fits; without
        // one all of it has to fit, since erased flash and other patterns look like tables.
        const fat::RootFolders folders = fat::root_folders(*g, volume_);
        if (folders.others > 0 || (folders.fitting == 0 && fit.doubted)) continue;
        if (!best_ || fit.points > best_->fit.points)
          best_ = RebuiltFat{std::move(sector), fit, true};
        else if (fit.points == best_->fit.points)
          best_->one_way = false;
      }
  }

  // Whether what is in use in a table leads to clusters there are, or ends a chain.
  bool has_valid_entries(const Geometry& g, std::uint64_t table) const {
    constexpr std::uint64_t kMaxLooked = 256u << 10;
    const auto length = static_cast<std::size_t>(std::min(g.table_bytes, kMaxLooked));
    const Bytes bytes = read_bytes(volume_, g.table_offset + table * g.table_bytes, length);
    const std::size_t entries = bytes.size() * 8 / static_cast<unsigned>(g.width);
    const std::uint32_t ends = g.width == Width::fat32   ? 0x0FFFFFF7
                               : g.width == Width::fat16 ? 0xFFF7
                                                         : 0xFF7;
    std::size_t used = 0, wrong = 0;
    for (std::size_t i = 2; i + 1 < entries; ++i) {
      const std::uint32_t entry = fat::table_entry(bytes, g.width, i);
      used += entry != 0 ? 1u : 0u;
      wrong += entry != 0 && entry < ends && !g.valid_cluster(entry) ? 1u : 0u;
    }
    return used > 0 && wrong * 16 <= used;
  }

  Bytes made(Width width, std::size_t reserved, std::uint64_t size, std::uint8_t media,
             std::uint64_t root, std::uint64_t cluster) const {
    const bool wide = width == Width::fat32;
    Bytes s(kSector);
    store_text(s, 0, wide ? "\xEB\x58\x90" : "\xEB\x3C\x90");
    store_text(s, 3, "MSWIN4.1");
    store_le16(s, 11, kSector);
    s[13] = static_cast<std::byte>(cluster);
    store_le16(s, 14, reserved);
    s[16] = std::byte{2};
    store_le16(s, 17, root);
    if (!wide && sectors_ < 0x10000)
      store_le16(s, 19, sectors_);
    else
      store_le32(s, 32, sectors_);
    s[21] = static_cast<std::byte>(media);
    if (!wide) store_le16(s, 22, size);
    store_le16(s, 24, 63);
    store_le16(s, 26, 255);
    if (wide) {
      store_le32(s, 36, size);
      store_le32(s, 44, 2);
      store_le16(s, 48, 1);
      store_le16(s, 50, 6);
    }
    const std::size_t tail = wide ? 64 : 36;
    s[tail] = std::byte{0x80};
    s[tail + 2] = std::byte{0x29};
    store_text(s, tail + 7, "NO NAME    ");
    store_text(s, tail + 18, wide ? "FAT32   " : width == Width::fat16 ? "FAT16   " : "FAT12   ");
    store_text(s, tail + 26, "\xCD\x18\xEB\xFE");  // asks the firmware for the next disk
    store_le16(s, kBootMarkAt, kBootMark);
    return s;
  }

  const ByteSource& volume_;
  std::uint64_t sectors_;
  std::optional<RebuiltFat> best_;
};

struct Figure {
  std::size_t at, bytes;
  const char* name;
  bool wide_only;
};
constexpr std::array<Figure, 11> kFigures = {{
    {11, 2, "bytes of a sector", false},
    {13, 1, "sectors of a cluster", false},
    {14, 2, "sectors before the tables", false},
    {16, 1, "tables", false},
    {17, 2, "entries of the root folder", false},
    {19, 2, "sectors, in 16 bits", false},
    {21, 1, "media", false},
    {22, 2, "sectors of a table", false},
    {32, 4, "sectors", false},
    {36, 4, "sectors of a table", true},
    {44, 4, "first cluster of the root folder", true},
}};
constexpr std::size_t kMaxWrong = 3;  // figures

std::uint32_t value_of(ByteView sector, const Figure& figure) {
  return figure.bytes == 1   ? u8(sector, figure.at)
         : figure.bytes == 2 ? le16(sector, figure.at)
                             : le32(sector, figure.at);
}

// Figures that no boot sector has: with two of them it is none.
std::size_t impossible_figures(ByteView sector) {
  const std::uint32_t bytes = le16(sector, 11), media = u8(sector, 21), tables = u8(sector, 16);
  const bool wrong[] = {!is_power_of_two(bytes) || bytes < 512 || bytes > 4096,
                        !is_power_of_two(u8(sector, 13)),
                        le16(sector, 14) == 0,
                        tables == 0 || tables > 2,
                        media != 0xF0 && media < 0xF8,
                        le16(sector, 19) == 0 && le32(sector, 32) == 0,
                        le16(sector, 22) == 0 && le32(sector, 36) == 0};
  return static_cast<std::size_t>(std::count(std::begin(wrong), std::end(wrong), true));
}

void store_value(Bytes& sector, const Figure& figure, std::uint32_t value) {
  for (std::size_t i = 0; i < figure.bytes; ++i)
    sector[figure.at + i] = static_cast<std::byte>(value >> 8 * i);
}

std::string change_of(const Figure& figure, ByteView right, ByteView stored) {
  return fmt::format("{} {}, not {}", figure.name, value_of(right, figure),
                     value_of(stored, figure));
}

// What a figure may be, the usual ones first.
std::vector<std::uint32_t> values_of(const Figure& figure, ByteView stored,
                                     const ByteSource& volume) {
  std::vector<std::uint32_t> values;
  const auto range = [&](std::uint64_t first, std::uint64_t last, std::uint32_t step) {
    for (std::uint64_t value = first; value <= last; value += step)
      values.push_back(static_cast<std::uint32_t>(value));
  };
  const std::uint64_t sector_bytes = std::max<std::uint64_t>(le16(stored, 11), 1);
  const std::uint64_t sectors = volume.size() / sector_bytes;
  switch (figure.at) {
    case 11:
      return {512, 1024, 2048, 4096};
    case 13:
      return {1, 2, 4, 8, 16, 32, 64, 128};
    case 14:
      range(1, 2048, 1);
      break;
    case 16:
      return {2, 1};
    case 17:
      values = {512, 224, 112, 240, 256, 1024};
      range(16, 1024, 16);
      break;
    case 19:
      if (sectors < 0x10000) range(sectors, sectors, 1);
      break;
    case 21:
      values = {0xF8, 0xF0};
      range(0xF9, 0xFF, 1);
      break;
    case 22:
      range(1, std::min<std::uint64_t>(sectors / 2, 0xFFFF), 1);
      break;
    case 32:
      if (sectors <= 0xFFFFFFFF) range(sectors, sectors, 1);
      break;
    case 36:
      range(1, std::min(sectors / 2, kMaxTable / kSector), 1);
      break;
    case 44:
      range(2, 16, 1);
      break;
    default:
      break;
  }
  return values;
}

}  // namespace

std::optional<MendedFat> mend_one_fat_figure(ByteView stored, const ByteSource& volume) {
  if (impossible_figures(stored) > 1) return std::nullopt;
  std::optional<MendedFat> best;
  Bytes sector(stored.begin(), stored.end());
  for (const Figure& figure : kFigures) {
    const std::uint32_t there = value_of(stored, figure);
    for (const std::uint32_t value : values_of(figure, stored, volume)) {
      if (value == there) continue;
      store_value(sector, figure, value);
      const auto g = fat::parse_boot_sector(sector);
      if (!g || !fat::length_fits(*g) || g->volume_bytes > volume.size()) continue;
      const fat::Fit fit = fat::fit(*g, volume);
      if (fit.doubted || (best && fit.points < best->fit.points)) continue;
      if (best && fit.points == best->fit.points)
        // The usual values come again in the whole row.
        best->one_way = best->one_way && sector == best->sector;
      else
        best = MendedFat{sector, {change_of(figure, sector, stored)}, fit};
    }
    store_value(sector, figure, there);
  }
  return best;
}

std::optional<RebuiltFat> rebuild_fat(const ByteSource& volume, bool by_one_table) {
  return Rebuild(volume, volume.size()).run(by_one_table);
}

std::optional<MendedFat> mend_fat_figures(ByteView stored, const RebuiltFat& rebuilt,
                                          const ByteSource& volume) {
  const bool wide = le16(rebuilt.sector, 22) == 0;
  std::vector<Figure> wrong;
  for (const Figure& figure : kFigures)
    if ((wide || !figure.wide_only) && value_of(stored, figure) != value_of(rebuilt.sector, figure))
      wrong.push_back(figure);
  // Each alone, then two of them, then three: the fewest that do.
  const std::size_t ways = std::size_t{1} << wrong.size();
  for (std::size_t count = 1; count <= std::min(kMaxWrong, wrong.size()); ++count)
    for (std::size_t way = 1; way < ways; ++way) {
      if (static_cast<std::size_t>(std::popcount(way)) != count) continue;
      MendedFat mended{Bytes(stored.begin(), stored.end()), {}, {}};
      for (std::size_t i = 0; i < wrong.size(); ++i) {
        if ((way >> i & 1) == 0) continue;
        mended.changes.push_back(change_of(wrong[i], rebuilt.sector, stored));
        store_bytes(mended.sector, wrong[i].at, slice(rebuilt.sector, wrong[i].at, wrong[i].bytes));
      }
      const auto g = fat::parse_boot_sector(mended.sector);
      if (g && fat::fit(*g, volume).points >= rebuilt.fit.points) return mended;
    }
  return std::nullopt;
}

}  // namespace lantern::repair
