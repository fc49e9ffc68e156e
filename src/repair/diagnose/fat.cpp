// FAT (layout: filesystem/fat/boot_sector.h): the boot sector from its copy, or made anew from the
// tables and folders behind it; the sector of counts; tables that differ.
#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/checked.h"
#include "base/lay.h"
#include "filesystem/fat/boot_sector.h"
#include "lantern/sources.h"
#include "repair/diagnose/volume_diagnosis.h"

namespace lantern {
namespace {

using fat::Geometry;
using fat::Width;

constexpr std::size_t kSector = 512;
constexpr std::size_t kSlot = 32;
constexpr std::uint64_t kMostTable = 64u << 20;

bool table_agrees(const Geometry& g, const ByteSource& volume) {
  const Bytes first = read_bytes(volume, g.table_offset, 4);
  const Bytes second = read_bytes(volume, g.table_offset + g.table_bytes, 4);
  const auto fits = [&](const Bytes& b) {
    return b.size() == 4 && u8(b, 0) == g.media && u8(b, 1) == 0xFF;
  };
  return fits(first) || (g.table_count > 1 && fits(second));
}

std::uint32_t entry_of(ByteView table, Width width, std::size_t cluster) {
  switch (width) {
    case Width::fat32:
      return le32(table, cluster * 4) & 0x0FFFFFFF;
    case Width::fat16:
      return le16(table, cluster * 2);
    case Width::fat12:
      break;
  }
  const unsigned pair = le16(table, cluster * 3 / 2);
  return cluster % 2 == 0 ? pair & 0xFFF : pair >> 4;
}

std::uint32_t top_of(Width width) {
  return width == Width::fat12 ? 0xFFFu : width == Width::fat16 ? 0xFFFFu : 0x0FFFFFFFu;
}

// A volume whose boot sector is lost, worked out from what lies behind it.
class Rebuild {
 public:
  Rebuild(const ByteSource& volume, std::uint64_t length)
      : volume_(volume), sectors_(length / kSector) {}

  std::optional<Bytes> run() {
    constexpr std::size_t kMostReserved = 256;
    for (std::size_t reserved = 1; reserved <= kMostReserved; ++reserved) {
      const Bytes start = read_bytes(volume_, reserved * kSector, kSector);
      if (start.size() < kSector) break;
      const std::uint8_t media = u8(start, 0);
      if ((media != 0xF0 && media < 0xF8) || u8(start, 1) != 0xFF) continue;
      for (const Width width : {Width::fat32, Width::fat16, Width::fat12}) {
        if (!begins_table(start, width)) continue;
        if (const std::uint64_t size = table_sectors(reserved, start); size != 0)
          try_width(width, reserved, size, media);
      }
      if (best_) return best_;
    }
    return std::nullopt;
  }
  bool one_way() const { return ways_ == 1; }
  std::size_t folders() const { return best_folders_; }

 private:
  static bool begins_table(ByteView start, Width width) {
    if (width == Width::fat32)
      return (u8(start, 3) & 0x0F) == 0x0F && u8(start, 2) == 0xFF && le32(start, 4) >= 0x07FFFFFF;
    if (width == Width::fat16) return le16(start, 2) >= 0x3FFF;
    return u8(start, 2) == 0xFF;
  }

  // The second table begins like the first, and goes on like it.
  std::uint64_t table_sectors(std::size_t reserved, ByteView start) const {
    const std::uint64_t most = std::min<std::uint64_t>(sectors_ / 2, kMostTable / kSector);
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

  void try_width(Width width, std::size_t reserved, std::uint64_t size, std::uint8_t media) {
    const bool wide = width == Width::fat32;
    const std::vector<std::uint64_t> roots =
        wide ? std::vector<std::uint64_t>{0}
             : std::vector<std::uint64_t>{512, 224, 240, 112, 256, 1024, 64, 128, 192, 16, 32, 48};
    for (const std::uint64_t root : roots)
      for (std::uint64_t cluster = 1; cluster <= 128; cluster *= 2) {
        Bytes sector = made(width, reserved, size, media, root, cluster);
        const auto g = fat::parse_boot_sector(sector);
        if (!g || g->width != width) continue;
        // Makers make tables as long as the clusters ask for, give or take what they round to.
        const std::uint64_t needed = divide_up(
            (std::uint64_t{g->cluster_count} + 2) * static_cast<unsigned>(width), 8 * kSector);
        if (needed > size || size - needed > 16 + size / 8) continue;
        std::size_t folders = 0;
        if (!folders_fit(*g, folders)) continue;
        if (!best_ || folders > best_folders_) {
          ways_ = folders > best_folders_ || !best_ ? 1 : ways_ + 1;
          best_ = std::move(sector);
          best_folders_ = folders;
        } else if (folders == best_folders_) {
          ++ways_;
        }
      }
  }

  // Every folder in the root begins, where the figures put it, with an entry that names itself.
  bool folders_fit(const Geometry& g, std::size_t& folders) const {
    const bool wide = g.width == Width::fat32;
    const std::uint64_t root = wide ? g.cluster_offset(g.root_cluster) : g.root_offset;
    const std::size_t length = static_cast<std::size_t>(
        wide ? g.cluster_bytes : std::min<std::uint64_t>(g.root_bytes, 65536));
    const Bytes slots = read_bytes(volume_, root, length);
    if (slots.size() < length) return false;
    for (std::size_t at = 0; at + kSlot <= slots.size() && u8(slots, at) != 0; at += kSlot) {
      const std::uint8_t attributes = u8(slots, at + 11);
      if (attributes > 0x3F) return false;
      if (u8(slots, at) == 0xE5 || attributes == 0x0F || (attributes & 0x10) == 0) continue;
      const std::uint32_t first =
          le16(slots, at + 26) | (wide ? std::uint32_t{le16(slots, at + 20)} << 16 : 0);
      if (!g.valid_cluster(first)) return false;
      const Bytes folder = read_bytes(volume_, g.cluster_offset(first), kSlot);
      if (!has_text(folder, 0, ".          ")) return false;
      if ((le16(folder, 26) | (wide ? std::uint32_t{le16(folder, 20)} << 16 : 0)) != first)
        return false;
      ++folders;
    }
    return true;
  }

  Bytes made(Width width, std::size_t reserved, std::uint64_t size, std::uint8_t media,
             std::uint64_t root, std::uint64_t cluster) const {
    const bool wide = width == Width::fat32;
    Bytes s(kSector);
    lay_text(s, 0, wide ? "\xEB\x58\x90" : "\xEB\x3C\x90");
    lay_text(s, 3, "MSWIN4.1");
    lay_le16(s, 11, kSector);
    s[13] = static_cast<std::byte>(cluster);
    lay_le16(s, 14, reserved);
    s[16] = std::byte{2};
    lay_le16(s, 17, root);
    if (!wide && sectors_ < 0x10000)
      lay_le16(s, 19, sectors_);
    else
      lay_le32(s, 32, sectors_);
    s[21] = static_cast<std::byte>(media);
    if (!wide) lay_le16(s, 22, size);
    lay_le16(s, 24, 63);
    lay_le16(s, 26, 255);
    if (wide) {
      lay_le32(s, 36, size);
      lay_le32(s, 44, 2);
      lay_le16(s, 48, 1);
      lay_le16(s, 50, 6);
    }
    const std::size_t tail = wide ? 64 : 36;
    s[tail] = std::byte{0x80};
    s[tail + 2] = std::byte{0x29};
    lay_text(s, tail + 7, "NO NAME    ");
    lay_text(s, tail + 18, wide ? "FAT32   " : width == Width::fat16 ? "FAT16   " : "FAT12   ");
    lay_text(s, tail + 26, "\xCD\x18\xEB\xFE");  // asks the firmware for the next disk
    lay_le16(s, 510, 0xAA55);
    return s;
  }

  const ByteSource& volume_;
  std::uint64_t sectors_;
  std::optional<Bytes> best_;
  std::size_t best_folders_ = 0;
  std::size_t ways_ = 0;
};

class FatDiagnosis : VolumeDiagnosis {
 public:
  FatDiagnosis(const DiskView& disk, const VolumeView& volume, Diagnosis& diagnosis)
      : VolumeDiagnosis(disk, volume, diagnosis), boot_(read_bytes(bytes_, 0, kSector)) {}

  void run() {
    if (boot_.size() < kSector) return;
    boot_sector();
    const auto g = fat::parse_boot_sector(boot_);
    if (!g) return;
    hidden(*g);
    if (g->width == Width::fat32) counts(*g);
    if (g->table_count == 2 && !g->only_table && g->table_bytes <= kMostTable) tables(*g);
  }

 private:
  static bool is_boot_sector(ByteView sector) {
    const std::uint8_t jump = u8(sector, 0);
    return le16(sector, 510) == 0xAA55 && (jump == 0xEB || jump == 0xE9 || jump == 0);
  }

  void boot_sector() {
    const auto own = fat::parse_boot_sector(boot_);
    const bool good = own && is_boot_sector(boot_) && table_agrees(*own, bytes_);
    for (const std::uint64_t size : {512u, 4096u, 1024u, 2048u}) {
      const Bytes copy = read_bytes(bytes_, 6 * size, kSector);
      if (copy.size() < kSector) continue;
      const auto spare = fat::parse_boot_sector(copy);
      if (!spare || spare->width != Width::fat32 || spare->sector_bytes != size ||
          !is_boot_sector(copy) || !table_agrees(*spare, bytes_))
        continue;
      if (good) return;
      propose("fat.boot-sector", Certainty::certain, "the boot sector, from its copy in sector 6",
              "it does not fit the tables behind it or is none; the copy does and is", 0, boot_,
              copy);
      boot_ = copy;
      return;
    }
    if (good) {
      const std::uint64_t at = std::uint64_t{le16(boot_, 50)} * own->sector_bytes;
      // A copy that was never made is zeros: then nobody asked for it.
      const Bytes copy = read_bytes(bytes_, at, kSector);
      if (own->width == Width::fat32 && at != 0 && at < own->table_offset && !all_zero(copy))
        propose("fat.boot-copy", Certainty::certain, "the copy of the boot sector",
                "the copy does not fit the tables behind it; the boot sector does", at, copy,
                boot_);
      return;
    }
    if (own && le16(boot_, 510) != 0xAA55 && table_agrees(*own, bytes_)) {
      Bytes after = boot_;
      lay_le16(after, 510, 0xAA55);
      propose("fat.signature", Certainty::certain, "the signature 55 AA of its boot sector",
              "all else in it fits the tables behind it", 0, boot_, after);
      boot_ = after;
      return;
    }
    Rebuild rebuild(bytes_, volume_.row.range.length);
    auto made = rebuild.run();
    if (!made) return;
    const bool wide = le16(*made, 22) == 0;
    lay_le32(*made, 28, start_sector(le16(*made, 11)));
    label_from_root(*made, wide);
    propose("fat.boot-sector", rebuild.one_way() ? Certainty::certain : Certainty::likely,
            "the boot sector, made anew from the tables and folders behind it",
            fmt::format("it is lost{}; the two tables alike say how long they are, and {} folders "
                        "begin where the figures put them; its serial number is not known",
                        wide ? ", and so is its copy" : "", rebuild.folders()),
            0, boot_, *made);
    boot_ = *made;
  }

  void label_from_root(Bytes& sector, bool wide) const {
    const auto g = fat::parse_boot_sector(sector);
    if (!g) return;
    const Bytes slots =
        read_bytes(bytes_, wide ? g->cluster_offset(g->root_cluster) : g->root_offset, 16 * kSlot);
    for (std::size_t at = 0; at + kSlot <= slots.size() && u8(slots, at) != 0; at += kSlot)
      if (u8(slots, at + 11) == 0x08 && u8(slots, at) != 0xE5)
        lay_bytes(sector, wide ? 71 : 43, slice(slots, at, 11));
  }

  // A loader reads from where this says; systems that only mount do not care.
  void hidden(const Geometry& g) {
    const std::uint64_t right = start_sector(g.sector_bytes);
    if (le32(boot_, 28) == right || !starts()) return;
    Bytes after = boot_;
    lay_le32(after, 28, right);
    propose(
        "fat.hidden-sectors", Certainty::certain,
        fmt::format("the boot sector says that {} sectors lie before the volume", right),
        fmt::format("it says {}; its loader reads from there and finds nothing", le32(boot_, 28)),
        0, boot_, after);
    boot_ = after;
  }

  void counts(const Geometry& g) {
    const std::uint64_t at = std::uint64_t{le16(boot_, 48)} * g.sector_bytes;
    if (at == 0 || at >= g.table_offset) return;
    const auto good = [](ByteView s) {
      return s.size() == kSector && le32(s, 0) == 0x41615252 && le32(s, 484) == 0x61417272 &&
             le16(s, 510) == 0xAA55;
    };
    const Bytes own = read_bytes(bytes_, at, kSector);
    if (good(own) || own.size() < kSector) return;
    const std::uint64_t copy_boot = std::uint64_t{le16(boot_, 50)} * g.sector_bytes;
    Bytes after = read_bytes(bytes_, copy_boot + at, kSector);
    if (copy_boot == 0 || !good(after)) {
      after.assign(kSector, std::byte{0});
      lay_le32(after, 0, 0x41615252);
      lay_le32(after, 484, 0x61417272);
      lay_le32(after, 492, 0xFFFFFFFF);
      lay_le32(after, 508, 0xAA550000);
    }
    // What still stands of its own is nearer to the truth than the copy, which is never kept up.
    if (le32(own, 484) == 0x61417272)
      lay_bytes(after, 488, slice(own, 488, 8));
    else if (const auto free = free_clusters(g))
      lay_le32(after, 488, *free);
    propose("fat.counts", Certainty::certain, "the sector of counts (FSInfo)",
            "its signatures are lost; the count of free clusters is that of the table", at, own,
            after);
  }

  std::optional<std::uint32_t> free_clusters(const Geometry& g) const {
    if (g.table_bytes > kMostTable) return std::nullopt;
    const Bytes table = read_bytes(bytes_, g.table_offset, static_cast<std::size_t>(g.table_bytes));
    if (table.size() < g.table_bytes) return std::nullopt;
    std::uint32_t free = 0;
    for (std::uint32_t c = 2; c < g.cluster_count + 2; ++c)
      free += entry_of(table, g.width, c) == 0;
    return free;
  }

  // What speaks against a table: entries that can be none, chains that run into free clusters or
  // into each other.
  static std::uint64_t faults(ByteView table, const Geometry& g) {
    std::uint64_t found = 0;
    std::vector<bool> led_to(std::size_t{g.cluster_count} + 2);
    const std::uint32_t top = top_of(g.width);
    for (std::uint32_t c = 2; c < g.cluster_count + 2; ++c) {
      const std::uint32_t next = entry_of(table, g.width, c);
      if (next == 0 || next >= top - 8) continue;
      if (!g.valid_cluster(next) || led_to[next] || entry_of(table, g.width, next) == 0) {
        ++found;
        continue;
      }
      led_to[next] = true;
    }
    return found;
  }

  void tables(const Geometry& g) {
    const auto length = static_cast<std::size_t>(g.table_bytes);
    const Bytes first = read_bytes(bytes_, g.table_offset, length);
    const Bytes second = read_bytes(bytes_, g.table_offset + length, length);
    if (first.size() < length || second.size() < length) return;
    // The first two entries hold flags that only the first table may be given.
    std::size_t differing = 0;
    const std::size_t used =
        std::min(length, static_cast<std::size_t>((std::uint64_t{g.cluster_count} + 2) *
                                                  static_cast<unsigned>(g.width) / 8));
    for (std::size_t i = 8; i < used; ++i) differing += first[i] != second[i] ? 1u : 0u;
    const std::uint8_t first_media = u8(first, 0), second_media = u8(second, 0);
    const bool media_differs = first_media != second_media;
    if (differing == 0 && !media_differs) return;
    const std::uint64_t of_first =
        faults(first, g) + lost_files(first, g) + (first_media != g.media);
    const std::uint64_t of_second =
        faults(second, g) + lost_files(second, g) + (second_media != g.media);
    const bool take_second = of_second < of_first;
    const bool clear = of_first != of_second && std::min(of_first, of_second) == 0;
    propose(
        take_second ? "fat.first-table" : "fat.second-table",
        clear ? Certainty::certain : Certainty::likely,
        take_second ? "the first table, from the second" : "the second table, from the first",
        fmt::format("{} bytes of them differ; {} speak against the first, {} against the second "
                    "(entries that cannot be, chains that break off, files without a chain)",
                    differing, of_first, of_second),
        take_second ? g.table_offset : g.table_offset + length, take_second ? first : second,
        take_second ? second : first);
  }

  // Active files and folders of the tree, as far as it can be read, whose first cluster is free.
  std::uint64_t lost_files(ByteView table, const Geometry& g) const {
    std::vector<std::pair<std::uint64_t, std::uint64_t>> folders;  // place, bytes
    if (g.width == Width::fat32)
      add_chain(table, g, g.root_cluster, folders);
    else
      folders.emplace_back(g.root_offset, g.root_bytes);
    std::uint64_t lost = 0;
    std::vector<bool> seen(std::size_t{g.cluster_count} + 2);
    for (std::size_t i = 0; i < folders.size() && i < 20'000; ++i) {
      const Bytes slots =
          read_bytes(bytes_, folders[i].first, static_cast<std::size_t>(folders[i].second));
      for (std::size_t at = 0; at + kSlot <= slots.size() && u8(slots, at) != 0; at += kSlot) {
        const std::uint8_t attributes = u8(slots, at + 11);
        if (u8(slots, at) == 0xE5 || (attributes & 0x08) != 0 || u8(slots, at) == '.') continue;
        const std::uint32_t cluster =
            le16(slots, at + 26) |
            (g.width == Width::fat32 ? std::uint32_t{le16(slots, at + 20)} << 16 : 0);
        if (!g.valid_cluster(cluster)) continue;
        const bool folder = (attributes & 0x10) != 0;
        if (entry_of(table, g.width, cluster) == 0) {
          ++lost;
        } else if (!folder) {
          lost +=
              chain_length(table, g, cluster) != divide_up(le32(slots, at + 28), g.cluster_bytes);
        } else if (!seen[cluster]) {
          seen[cluster] = true;
          add_chain(table, g, cluster, folders);
        }
      }
    }
    return lost;
  }

  static std::uint64_t chain_length(ByteView table, const Geometry& g, std::uint32_t cluster) {
    std::uint64_t length = 0;
    while (g.valid_cluster(cluster) && length <= g.cluster_count) {
      ++length;
      cluster = entry_of(table, g.width, cluster);
    }
    return length;
  }

  static void add_chain(ByteView table, const Geometry& g, std::uint32_t cluster,
                        std::vector<std::pair<std::uint64_t, std::uint64_t>>& folders) {
    for (std::uint64_t i = 0; g.valid_cluster(cluster) && i <= g.cluster_count && i < 4096; ++i) {
      folders.emplace_back(g.cluster_offset(cluster), g.cluster_bytes);
      cluster = entry_of(table, g.width, cluster);
    }
  }

  Bytes boot_;  // as the steps so far make it
};

}  // namespace

void diagnose_fat(const DiskView& disk, const VolumeView& volume, Diagnosis& diagnosis,
                  const Context& /*context*/) {
  FatDiagnosis(disk, volume, diagnosis).run();
}

}  // namespace lantern
