// exFAT (layout: filesystem/exfat/boot.h): either boot region from the other, or both rebuilt
// from the allocation bitmap, the capitals and the root folder behind them.
#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/store.h"
#include "filesystem/exfat/boot.h"
#include "lantern/sources.h"
#include "repair/diagnose/volume_diagnosis.h"

namespace lantern::repair {
namespace {

constexpr std::uint64_t kRegionSectors = 12;
constexpr std::uint64_t kMaxBefore = 64u << 20;  // bytes, of the FAT
constexpr std::uint64_t kMaxLooked = 256u << 20;

bool is_region(ByteView region, std::uint64_t sector_bytes) {
  if (region.size() < kRegionSectors * sector_bytes || !has_text(region, 3, "EXFAT   ") ||
      !has_boot_mark(region) || u8(region, 0x6C) > 12 ||
      std::uint64_t{1} << u8(region, 0x6C) != sector_bytes)
    return false;
  const auto summed = static_cast<std::size_t>((kRegionSectors - 1) * sector_bytes);
  return le32(region, summed) == exfat::boot_sum(region.first(summed));
}

std::uint32_t capitals_sum(ByteView table) {
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i < table.size(); ++i) sum = ((sum & 1) << 31 | sum >> 1) + u8(table, i);
  return sum;
}

class ExfatDiagnosis : VolumeDiagnosis {
 public:
  using VolumeDiagnosis::VolumeDiagnosis;

  void run() {
    for (const std::size_t size : {512u, 4096u, 1024u, 2048u}) {
      const std::size_t length = kRegionSectors * size;
      const Bytes own = read_bytes(bytes_, 0, length);
      const Bytes copy = read_bytes(bytes_, length, length);
      if (own.size() < length || copy.size() < length) return;
      const bool own_good = is_region(own, size);
      const bool copy_good = is_region(copy, size);
      if (!own_good && !copy_good) continue;
      if (own_good && copy_good) return hidden(own, size);
      Bytes right = own_good ? own : copy;
      // What changes without the sum is only kept up in the first.
      if (!own_good && has_text(own, 3, "EXFAT   ")) store_bytes(right, 0x6A, slice(own, 0x6A, 2));
      propose(own_good ? "exfat.boot-copy" : "exfat.boot-region", Certainty::certain,
              own_good ? "the copy of the boot region" : "the boot region, from its copy",
              "its checksum is wrong, the other's is right", own_good ? length : 0,
              own_good ? copy : own, right);
      return;
    }
    make_anew();
  }

 private:
  // A loader reads from where this says.
  void hidden(const Bytes& own, std::size_t size) {
    const std::uint64_t right = start_sector(size);
    if (le64(own, 0x40) == right || !starts()) return;
    Bytes after = own;
    store_le64(after, 0x40, right);
    exfat::store_boot_sum(after, size);
    propose("exfat.hidden-sectors", Certainty::certain,
            fmt::format("the boot region says that {} sectors are before the volume", right),
            fmt::format("it says {}; its loader reads from there", le64(own, 0x40)), 0, own, after);
  }

  // Where the root folder tells of the bitmap and the capitals, side by side.
  struct Root {
    std::uint64_t at = 0;
    std::uint32_t bitmap_cluster = 0, capitals_cluster = 0, capitals_sum = 0;
    std::uint64_t bitmap_bytes = 0, capitals_bytes = 0;
  };

  static std::optional<Root> root_in(ByteView sector) {
    Root root;
    for (std::size_t at = 0; at + 32 <= sector.size(); at += 32) {
      const std::uint8_t type = u8(sector, at);
      if (type == 0) break;
      if (type == 0x81 && (u8(sector, at + 1) & 1) == 0) {
        root.bitmap_cluster = le32(sector, at + 0x14);
        root.bitmap_bytes = le64(sector, at + 0x18);
      } else if (type == 0x82) {
        root.capitals_sum = le32(sector, at + 4);
        root.capitals_cluster = le32(sector, at + 0x14);
        root.capitals_bytes = le64(sector, at + 0x18);
      } else if (at == 0 && type != 0x83 && type != 0x03 && type != 0xA0) {
        break;
      }
    }
    const bool told = root.bitmap_cluster >= 2 && root.capitals_cluster >= 2 &&
                      root.bitmap_bytes != 0 && root.capitals_bytes >= 60 &&
                      root.capitals_bytes <= 131072;
    return told ? std::optional(root) : std::nullopt;
  }

  void make_anew() {
    // Only a volume that nothing else claims: the table says so, or nothing else is there.
    if (volume_.file_system() || volume_.row.type_code == "0x83") return;
    std::optional<Root> root;
    std::vector<std::uint64_t> capitals;
    Bytes piece(std::size_t{1} << 20);
    const std::uint64_t limit = std::min(bytes_.size(), kMaxLooked);
    for (std::uint64_t at = 0; at < limit; at += piece.size()) {
      const Range part = intersect({at, piece.size()}, {0, bytes_.size()});
      if (known_zero(bytes_, part)) continue;
      const std::size_t got = bytes_.read(at, piece).length;
      for (std::size_t in = 0; in + kSector <= got; in += kSector) {
        const ByteView sector = ByteView(piece).subspan(in, kSector);
        // The capitals begin with those of the first letters, or say that they are the same.
        if (le64(sector, 0) == 0x0003000200010000) capitals.push_back(at + in);
        if (root || (u8(sector, 0) != 0x83 && u8(sector, 0) != 0x81 && u8(sector, 0) != 0x03))
          continue;
        root = root_in(sector);
        if (root) root->at = at + in;
      }
      if (root && !capitals.empty()) break;
    }
    if (!root) return;
    for (const std::uint64_t at : capitals) {
      const Bytes table = read_bytes(bytes_, at, static_cast<std::size_t>(root->capitals_bytes));
      if (capitals_sum(table) != root->capitals_sum) continue;
      if (propose_from(*root, at)) return;
    }
  }

  // The one size of clusters at which all three lie where they say.
  bool propose_from(const Root& root, std::uint64_t capitals_at) {
    for (std::uint64_t cluster = 512; cluster <= (32u << 20); cluster *= 2) {
      const std::uint64_t before = (root.capitals_cluster - 2) * cluster;
      if (before > capitals_at) continue;
      const std::uint64_t heap = capitals_at - before;
      if (root.at < heap || (root.at - heap) % cluster != 0 || heap % kSector != 0) continue;
      const std::uint64_t bitmap_clusters = divide_up(root.bitmap_bytes, cluster);
      if (root.capitals_cluster > root.bitmap_cluster &&
          root.capitals_cluster < root.bitmap_cluster + bitmap_clusters)
        continue;
      const std::uint64_t clusters =
          std::min(root.bitmap_bytes * 8, (bytes_.size() - heap) / cluster);
      const std::uint64_t root_cluster = (root.at - heap) / cluster + 2;
      const Bytes bitmap = read_bytes(bytes_, heap + (root.bitmap_cluster - 2) * cluster, 64);
      const auto in_use = [&](std::uint64_t c) {
        return c - 2 >= 512 ||
               (u8(bitmap, static_cast<std::size_t>((c - 2) / 8)) >> ((c - 2) % 8) & 1) != 0;
      };
      if (clusters == 0 || divide_up(clusters, 8) != root.bitmap_bytes || bitmap.size() < 64 ||
          !in_use(root_cluster) || !in_use(root.capitals_cluster))
        continue;
      const std::uint64_t table = table_before(heap);
      if (table == 0) continue;
      propose_regions(cluster, heap, table, clusters, root_cluster);
      return true;
    }
    return false;
  }

  // The FAT begins with F8 FF FF FF FF FF FF FF.
  std::uint64_t table_before(std::uint64_t heap) const {
    for (std::uint64_t at = 24 * kSector; at < std::min(heap, kMaxBefore); at += kSector) {
      const Bytes start = read_bytes(bytes_, at, 8);
      if (start.size() == 8 && le64(start, 0) == 0xFFFFFFFFFFFFFFF8) return at;
    }
    return 0;
  }

  void propose_regions(std::uint64_t cluster, std::uint64_t heap, std::uint64_t table,
                       std::uint64_t clusters, std::uint64_t root_cluster) {
    Bytes region(kRegionSectors * kSector);
    unsigned power = 0;
    while ((kSector << power) < cluster) ++power;
    store_text(region, 0,
               "\xEB\x76\x90"
               "EXFAT   ");
    store_le64(region, 0x40, start_sector(kSector));
    store_le64(region, 0x48, bytes_.size() / kSector);
    store_le32(region, 0x50, table / kSector);
    store_le32(region, 0x54, (heap - table) / kSector);
    store_le32(region, 0x58, heap / kSector);
    store_le32(region, 0x5C, clusters);
    store_le32(region, 0x60, root_cluster);
    store_le16(region, 0x68, 0x0100);
    region[0x6C] = std::byte{9};
    region[0x6D] = static_cast<std::byte>(power);
    region[0x6E] = std::byte{1};
    region[0x6F] = std::byte{0x80};
    region[0x70] = std::byte{0xFF};
    store_text(region, 120, "\xCD\x18\xEB\xFE");  // asks the firmware for the next disk
    store_le16(region, kBootMarkAt, kBootMark);
    for (std::size_t sector = 1; sector <= 8; ++sector)
      store_le32(region, sector * kSector + 508, 0xAA550000);
    exfat::store_boot_sum(region, kSector);
    RepairStep step;
    step.code = "exfat.boot-region";
    step.certainty = Certainty::certain;
    step.what = "both boot regions, rebuilt";
    step.evidence = fmt::format(
        "both are lost; the bitmap, the up-case table and the root folder are where they say only "
        "with "
        "clusters of {} bytes from byte {}; the serial number is not known",
        cluster, heap);
    for (const std::uint64_t at : {std::uint64_t{0}, std::uint64_t{region.size()}})
      change(step, at, read_bytes(bytes_, at, region.size()), region);
    add(std::move(step));
  }
};

}  // namespace

void diagnose_exfat(const DiskLayer& disk, const VolumeLayer& volume, Diagnosis& diagnosis,
                    const Context& /*context*/) {
  ExfatDiagnosis(disk, volume, diagnosis).run();
}

}  // namespace lantern::repair
