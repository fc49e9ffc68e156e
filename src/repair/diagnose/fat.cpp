// FAT (layout: filesystem/fat/boot_sector.h): the boot sector from its copy, or rebuilt from the
// tables and folders behind it; the sector of counts; tables that differ.
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>
#include <ranges>
#include <utility>

#include "base/checked.h"
#include "base/store.h"
#include "lantern/text.h"
#include "repair/diagnose/fat_entry.h"
#include "repair/diagnose/fat_rebuild.h"
#include "repair/diagnose/volume_diagnosis.h"

namespace lantern::repair {
namespace {

using fat::Geometry;
using fat::Width;

constexpr std::size_t kSlot = 32;
constexpr std::uint64_t kMaxFat = 64u << 20;
// Of FAT32: where the boot code begins, how long it is, and so much of it that something is there.
constexpr std::size_t kCodeAt = 90, kCodeBytes = 420, kCodeStart = 32;

class FatDiagnosis : VolumeDiagnosis {
 public:
  FatDiagnosis(const DiskLayer& disk, const VolumeLayer& volume, Diagnosis& diagnosis,
               const Context& context)
      : VolumeDiagnosis(disk, volume, diagnosis),
        context_(context),
        boot_(read_bytes(bytes_, 0, kSector)) {}

  void run() {
    if (boot_.size() < kSector) return;
    boot_sector();
    const auto g = fat::parse_boot_sector(boot_);
    if (!g) return;
    hidden(*g);
    if (g->width == Width::fat32) counts(*g);
    if (g->table_count == 2 && !g->only_table && g->table_bytes <= kMaxFat) tables(*g);
  }

 private:
  // Over the figures, or nowhere: makers of cards that nothing starts from leave zeros.
  static bool jumps(ByteView sector) {
    if (all_zero(sector.first(3)) || u8(sector, 0) == 0xE9) return true;
    if (u8(sector, 0) != 0xEB || u8(sector, 1) >= 0x80) return false;
    const std::size_t tail = le16(sector, 22) == 0 ? 64 : 36;
    return u8(sector, tail + 2) != 0x29 || u8(sector, 1) + 2u >= tail + 26;
  }
  static bool is_signed(ByteView sector) { return has_boot_mark(sector); }

  struct Candidate {
    Bytes sector;
    fat::Fit fit;
  };

  // What the volume keeps as a copy, where that is one.
  std::optional<Candidate> copy() const {
    for (const std::uint64_t size : {512u, 4096u, 1024u, 2048u}) {
      Bytes sector = read_bytes(bytes_, 6 * size, kSector);
      if (sector.size() < kSector) continue;
      const auto g = fat::parse_boot_sector(sector);
      if (!g || g->width != Width::fat32 || g->sector_bytes != size || !is_signed(sector)) continue;
      return Candidate{std::move(sector), fat::fit(*g, bytes_)};
    }
    return std::nullopt;
  }

  void boot_sector() {
    const auto own = fat::parse_boot_sector(boot_);
    const fat::Fit own_fit = own ? fat::fit(*own, bytes_) : fat::Fit{0, true};
    const auto spare = copy();
    if (spare && spare->fit.points > own_fit.points) return take_from_copy(*spare);
    if (own_fit.doubted && (!spare || spare->fit.doubted) && made_anew(own_fit)) return;
    if (!own) return;
    first_and_last_bytes(spare);
    if (own->width == Width::fat32 && is_signed(boot_)) mend_copy(*own, own_fit, spare);
  }

  // Only what is wrong: a loader in the boot sector stays, which the copy may not have.
  void take_from_copy(const Candidate& spare) {
    const std::string why = "its figures do not fit the tables behind it; those of the copy do";
    const RebuiltFat as_copy{spare.sector, spare.fit, true};
    if (const auto mended = mend_fat_figures(boot_, as_copy, bytes_))
      return take(fmt::format("the boot sector: {}, as in its copy in sector 6",
                              fmt::join(mended->changes, ", ")),
                  why, mended->sector, Certainty::certain);
    const ByteView own_code = slice(boot_, kCodeAt, kCodeBytes);
    const ByteView copy_code = slice(spare.sector, kCodeAt, kCodeBytes);
    const bool code_is_there = is_signed(boot_) && !all_zero(own_code.first(kCodeStart));
    if (code_is_there) {
      Bytes right = boot_;
      store_bytes(right, 0, slice(spare.sector, 0, kCodeAt));
      return take("the figures of the boot sector, from its copy in sector 6",
                  why + (std::ranges::equal(own_code, copy_code)
                             ? ""
                             : "; its boot code is another than the copy's, and stays"),
                  right, Certainty::certain);
    }
    take("the boot sector, from its copy in sector 6",
         why + (all_zero(copy_code) || starts_nothing(spare.sector)
                    ? "; its boot code is lost, and the copy's starts nothing"
                    : "; its boot code is lost: the copy's may be another loader's, so whether it "
                      "starts is not known"),
         spare.sector, Certainty::certain);
  }

  // Code of a maker that only says so on the screen.
  static bool starts_nothing(ByteView sector) {
    const std::string text = text_of(sector);
    return text.find("not a bootable") != std::string::npos ||
           text.find("not bootable") != std::string::npos;
  }

  void take(std::string what, std::string evidence, const Bytes& right, Certainty certainty) {
    propose("fat.boot-sector", certainty, std::move(what), std::move(evidence), 0, boot_, right);
    boot_ = right;
  }

  bool made_anew(const fat::Fit& own_fit) {
    const auto take_mended = [&](const MendedFat& mended, bool one_way) {
      take(fmt::format("the boot sector: {}", fmt::join(mended.changes, ", ")),
           "as it is, it does not fit the tables, folders and files behind it; with that it does",
           mended.sector, one_way ? Certainty::certain : Certainty::likely);
      return true;
    };
    auto rebuilt = rebuild_fat(bytes_, own_fit.points == 0);
    if (rebuilt && rebuilt->fit.points <= own_fit.points) rebuilt.reset();
    const auto mended = rebuilt ? mend_fat_figures(boot_, *rebuilt, bytes_) : std::nullopt;
    if (mended && mended->changes.size() == 1) return take_mended(*mended, rebuilt->one_way);
    const unsigned needed = std::max(own_fit.points + 1, rebuilt ? rebuilt->fit.points : 0);
    if (const auto one = mend_one_fat_figure(boot_, bytes_); one && one->fit.points >= needed)
      return take_mended(*one, one->one_way);
    if (mended) return take_mended(*mended, rebuilt->one_way);
    if (!rebuilt) return false;
    const Certainty certainty =
        rebuilt->one_way && !rebuilt->by_second_table ? Certainty::certain : Certainty::likely;
    Bytes made = rebuilt->sector;
    const auto g = fat::parse_boot_sector(made);
    const bool wide = g->width == Width::fat32;
    store_le32(made, 28, start_sector(g->sector_bytes));
    label_from_root(made, wide);
    take("the boot sector, rebuilt from the tables and folders behind it",
         fmt::format("it is lost{}; {} how long they are, and {} folders begin where the figures "
                     "put them; its serial number is not known",
                     wide ? ", and so is its copy" : "",
                     rebuilt->by_second_table ? "the second table and the size of the volume say"
                                              : "the two tables alike say",
                     fat::root_folders(*g, bytes_).fitting),
         made, certainty);
    const std::uint64_t copy = std::uint64_t{le16(made, 50)} * g->sector_bytes;
    const Bytes there = wide ? read_bytes(bytes_, copy, kSector) : Bytes();
    if (!there.empty() && all_zero(there))
      propose("fat.boot-copy", certainty, "the copy of the boot sector",
              "the boot sector that is made names it, and it is lost", copy, there, boot_);
    return true;
  }

  // Its figures fit; systems want the jump at its start and the signature at its end, too.
  void first_and_last_bytes(const std::optional<Candidate>& spare) {
    Bytes after = boot_;
    std::string what;
    if (!is_signed(after)) {
      store_le16(after, kBootMarkAt, kBootMark);
      what = "the signature 55 AA of its boot sector";
    }
    if (!jumps(after)) {
      // Over the figures, to where the code begins.
      const bool wide = le16(after, 22) == 0;
      if (spare && jumps(spare->sector))
        store_bytes(after, 0, slice(spare->sector, 0, 3));
      else
        store_text(after, 0, wide ? "\xEB\x58\x90" : "\xEB\x3C\x90");
      what +=
          what.empty() ? "the jump at the start of its boot sector" : ", and the jump at its start";
    }
    if (what.empty()) return;
    propose("fat.signature", Certainty::certain, what, "all else in it fits what follows it", 0,
            boot_, after);
    boot_ = after;
  }

  void mend_copy(const Geometry& own, const fat::Fit& own_fit,
                 const std::optional<Candidate>& spare) {
    const std::uint64_t at = std::uint64_t{le16(boot_, 50)} * own.sector_bytes;
    if (at == 0 || at >= own.table_offset || own_fit.doubted) return;
    // A copy that was never made is zeros: then nobody asked for it.
    const Bytes there = read_bytes(bytes_, at, kSector);
    if (all_zero(there) || (spare && spare->fit.points == own_fit.points)) return;
    propose("fat.boot-copy", Certainty::certain, "the copy of the boot sector",
            "the copy does not fit what follows it; the boot sector does", at, there, boot_);
  }

  void label_from_root(Bytes& sector, bool wide) const {
    const auto g = fat::parse_boot_sector(sector);
    if (!g) return;
    const Bytes slots =
        read_bytes(bytes_, wide ? g->cluster_offset(g->root_cluster) : g->root_offset, 16 * kSlot);
    for (std::size_t at = 0; at + kSlot <= slots.size() && u8(slots, at) != 0; at += kSlot)
      if (u8(slots, at + 11) == 0x08 && u8(slots, at) != 0xE5)
        store_bytes(sector, wide ? 71 : 43, slice(slots, at, 11));
  }

  // A loader reads from where this says; systems that only mount do not care.
  void hidden(const Geometry& g) {
    const std::uint64_t right = start_sector(g.sector_bytes);
    if (le32(boot_, 28) == right || !starts()) return;
    Bytes after = boot_;
    store_le32(after, 28, right);
    propose(
        "fat.hidden-sectors", Certainty::certain,
        fmt::format("the boot sector says that {} sectors are before the volume", right),
        fmt::format("it says {}; its loader reads from there and finds nothing", le32(boot_, 28)),
        0, boot_, after);
    boot_ = after;
  }

  void counts(const Geometry& g) {
    const std::uint64_t at = std::uint64_t{le16(boot_, 48)} * g.sector_bytes;
    if (at == 0) return;
    const auto good = [](ByteView s) {
      return s.size() == kSector && le32(s, 0) == 0x41615252 && le32(s, 484) == 0x61417272 &&
             has_boot_mark(s);
    };
    const Bytes own = read_bytes(bytes_, at, kSector);
    if (good(own) || own.size() < kSector) return;
    // Where the boot sector names another place than every maker's, the place is what is wrong.
    if (at != g.sector_bytes && good(read_bytes(bytes_, g.sector_bytes, kSector))) {
      Bytes after = boot_;
      store_le16(after, 48, 1);
      return take(fmt::format("the boot sector: sector of counts 1, not {}", le16(boot_, 48)),
                  "the sector it names holds none, sector 1 does", after, Certainty::certain);
    }
    if (at >= g.table_offset) return;
    const std::uint64_t copy_boot = std::uint64_t{le16(boot_, 50)} * g.sector_bytes;
    Bytes after = read_bytes(bytes_, copy_boot + at, kSector);
    if (copy_boot == 0 || !good(after)) {
      after.assign(kSector, std::byte{0});
      store_le32(after, 0, 0x41615252);
      store_le32(after, 484, 0x61417272);
      store_le32(after, 492, 0xFFFFFFFF);
      store_le32(after, 508, 0xAA550000);
    }
    // What still stands of its own is nearer to the truth than the copy, which is never kept up.
    if (le32(own, 0) == 0x41615252 || le32(own, 484) == 0x61417272)
      store_bytes(after, 488, slice(own, 488, 8));
    else
      store_le32(after, 488, free_clusters(g).value_or(0xFFFFFFFF));
    propose("fat.counts", Certainty::certain, "the sector of counts (FSInfo)",
            le32(after, 488) == 0xFFFFFFFF
                ? "its signatures are lost; systems count the free clusters again"
                : "its signatures are lost; the count of free clusters is that of the table",
            at, own, after);
  }

  std::optional<std::uint32_t> free_clusters(const Geometry& g) const {
    if (g.table_bytes > kMaxFat) return std::nullopt;
    const Bytes table = read_bytes(bytes_, g.table_offset, static_cast<std::size_t>(g.table_bytes));
    if (table.size() < g.table_bytes) return std::nullopt;
    // Of two that differ it is not known yet which is right.
    if (g.table_count > 1 &&
        table != read_bytes(bytes_, g.table_offset + g.table_bytes, table.size()))
      return std::nullopt;
    std::uint32_t free = 0;
    for (std::uint32_t c = 2; c < g.cluster_count + 2; ++c)
      free += fat::table_entry(table, g.width, c) == 0;
    return free;
  }

  // What speaks against a table: entries that can be none, chains that run into free clusters or
  // into each other.
  static std::uint64_t faults(ByteView table, const Geometry& g) {
    std::uint64_t found = 0;
    std::vector<bool> led_to(std::size_t{g.cluster_count} + 2);
    const std::uint32_t top = max_fat_entry(g.width);
    for (std::uint32_t c = 2; c < g.cluster_count + 2; ++c) {
      const std::uint32_t next = fat::table_entry(table, g.width, c);
      if (next == 0 || next >= top - 8) continue;
      if (!g.valid_cluster(next) || led_to[next] || fat::table_entry(table, g.width, next) == 0) {
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
    const bool second_better = of_second < of_first;
    const Bytes& better = second_better ? second : first;
    Bytes merged = better;
    const std::size_t taken = merge(merged, second_better ? first : second, g);
    const std::uint64_t left = faults(merged, g) + lost_files(merged, g);
    const bool clear = of_first != of_second && std::min(of_first, of_second) == 0;
    if (left > std::min(of_first, of_second) && taken > 0) merged = better;
    const Certainty certainty =
        clear || (left == 0 && taken > 0) ? Certainty::certain : Certainty::likely;
    const std::string how = taken == 0
                                ? fmt::format("from the {}", second_better ? "second" : "first")
                                : "entry by entry from what fits in either";
    const std::string evidence = fmt::format(
        "{} bytes of them differ; {} errors in the first, {} in the second (entries that "
        "are invalid, chains that break off, files without a chain), {} against what is written",
        differing, of_first, of_second, left);
    if (merged != first)
      propose("fat.first-table", certainty, "the first FAT, " + how, evidence, g.table_offset,
              first, merged);
    if (merged != second)
      propose("fat.second-table", certainty, "the second FAT, " + how, evidence,
              g.table_offset + length, second, merged);
  }

  // Entries of the better table that are invalid, or free though something leads to them, taken
  // from the other one where that has what can be. How many.
  std::size_t merge(Bytes& table, const Bytes& other, const Geometry& g) const {
    const std::uint32_t top = max_fat_entry(g.width);
    const auto can_be = [&](std::uint32_t next) {
      return next == 0 || next >= top - 8 || g.valid_cluster(next);
    };
    std::vector<bool> led_to(std::size_t{g.cluster_count} + 2);
    for (std::uint32_t c = 2; c < g.cluster_count + 2; ++c) {
      if (c % 65536 == 0) context_.check_cancelled();
      for (const Bytes* const one : {&std::as_const(table), &other})
        if (const std::uint32_t next = fat::table_entry(*one, g.width, c); g.valid_cluster(next))
          led_to[next] = true;
    }
    std::size_t taken = 0;
    for (std::uint32_t c = 2; c < g.cluster_count + 2; ++c) {
      const std::uint32_t own = fat::table_entry(table, g.width, c);
      const std::uint32_t there = fat::table_entry(other, g.width, c);
      if (own == there || !can_be(there) || there == 0) continue;
      if (can_be(own) && !(own == 0 && led_to[c])) continue;
      store_fat_entry(table, g.width, c, there);
      ++taken;
    }
    return taken;
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
        if (fat::table_entry(table, g.width, cluster) == 0) {
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
      cluster = fat::table_entry(table, g.width, cluster);
    }
    return length;
  }

  static void add_chain(ByteView table, const Geometry& g, std::uint32_t cluster,
                        std::vector<std::pair<std::uint64_t, std::uint64_t>>& folders) {
    for (std::uint64_t i = 0; g.valid_cluster(cluster) && i <= g.cluster_count && i < 4096; ++i) {
      folders.emplace_back(g.cluster_offset(cluster), g.cluster_bytes);
      cluster = fat::table_entry(table, g.width, cluster);
    }
  }

  const Context& context_;
  Bytes boot_;  // as the steps so far make it
};

}  // namespace

void diagnose_fat(const DiskLayer& disk, const VolumeLayer& volume, Diagnosis& diagnosis,
                  const Context& context) {
  FatDiagnosis(disk, volume, diagnosis, context).run();
  diagnose_efi_loader(disk, volume, diagnosis);
}

}  // namespace lantern::repair
