#include "repair/grow/file_system/exfat_growth.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/store.h"
#include "filesystem/exfat/boot.h"
#include "lantern/error.h"
#include "lantern/text.h"
#include "repair/diagnose/diagnosis.h"

namespace lantern::repair {
namespace {

// Of the boot sector.
constexpr std::size_t kSectorsAt = 0x48, kTableSectorsAt = 0x54, kClustersAt = 0x5C,
                      kTablesAt = 0x6E, kShareAt = 0x70;
constexpr std::uint64_t kRegionSectors = 12;
// Of the entry of the bitmap in the root folder.
constexpr unsigned kBitmap = 0x81, kEndOfFolder = 0;
constexpr std::size_t kSlot = 32, kFlagsAt = 1, kStartAt = 20, kLengthAt = 24;
constexpr std::uint32_t kEnd = 0xFFFFFFFF, kMaxClusters = 0xFFFFFFF5;
constexpr std::uint64_t kMaxTable = 256u << 20, kMaxRoot = 256u << 20;  // bytes

class ExfatGrowth {
 public:
  ExfatGrowth(const SourcePtr& volume, std::string address, const Context& context)
      : volume_(*volume), address_(std::move(address)), context_(context) {
    const auto found = exfat::parse_boot_sector(read_bytes(volume_, 0, kSector));
    if (!found || !exfat::sum_is_right(volume_, 0, found->sector_bytes))
      refuse("the boot sector of the file system is damaged", "repair it first");
    geometry_ = *found;
    region_ = read_bytes(volume_, 0, static_cast<std::size_t>(kRegionSectors) * sector());
  }

  GrownFileSystem run() {
    GrownFileSystem grown;
    grown.before_bytes = grown.after_bytes = geometry_.volume_bytes;
    const std::uint64_t sectors = volume_.size() / sector(), had = geometry_.cluster_count;
    const std::uint64_t bytes = sectors * sector();
    if (bytes <= geometry_.volume_bytes || bytes < geometry_.heap_offset) return grown;
    const std::uint64_t count = std::min<std::uint64_t>(
        (bytes - geometry_.heap_offset) / geometry_.cluster_bytes, kMaxClusters);
    if (count <= had) return grown;
    check(count);
    lengthen_table(count);
    lengthen_bitmap(count);
    write_heads(sectors, count);
    grown.after_bytes = bytes;
    grown.more_free_bytes = (count - had - taken_) * geometry_.cluster_bytes;
    grown.writes = std::move(writes_);
    return grown;
  }

 private:
  [[noreturn]] void refuse(const std::string& what, const std::string& next) const {
    throw Error(ErrorCode::refused, address_, std::nullopt, what, next);
  }
  [[noreturn]] void not_yet(const std::string& what, const std::string& next) const {
    throw Error(ErrorCode::unsupported, address_, std::nullopt, what, next);
  }
  std::uint32_t sector() const { return geometry_.sector_bytes; }

  void check(std::uint64_t count) const {
    if (u8(region_, kTablesAt) != 1 || geometry_.second_fat)
      not_yet("it keeps two FATs", "grow it with its own system's tools");
    const std::uint64_t room = (geometry_.heap_offset - geometry_.table_offset) / 4;
    if (count + 2 > room) {
      const std::uint64_t reach = geometry_.heap_offset + (room - 2) * geometry_.cluster_bytes;
      not_yet(fmt::format("its FAT has room for a volume of {} and no more", human_size(reach)),
              "grow it to that size at most, or copy its files to a new file system");
    }
    if ((count + 2) * 4 > kMaxTable)
      not_yet("its FAT would be larger than is grown here", "grow it less");
  }

  // Of a cluster that is there.
  std::uint32_t next_of(std::uint32_t cluster) const {
    const Bytes entry = read_bytes(volume_, geometry_.table_offset + std::uint64_t{cluster} * 4, 4);
    if (entry.size() < 4) refuse("its FAT cannot be read", "repair it first");
    return le32(entry, 0);
  }

  // Entries of new clusters are free; whole sectors, whatever lay there before.
  void lengthen_table(std::uint64_t count) {
    const std::uint64_t from = (std::uint64_t{geometry_.cluster_count} + 2) * 4;
    table_bytes_ = std::max(geometry_.table_bytes, divide_up((count + 2) * 4, sector()) * sector());
    const std::uint64_t end = divide_up((count + 2) * 4, sector()) * sector();
    tail_ = Bytes(static_cast<std::size_t>(end - from));
  }
  void set_next(std::uint32_t cluster, std::uint32_t next) {
    if (!geometry_.valid_cluster(cluster)) {
      store_le32(tail_, (std::size_t{cluster} - geometry_.cluster_count - 2) * 4, next);
      return;
    }
    Bytes entry(4);
    store_le32(entry, 0, next);
    writes_.push_back({geometry_.table_offset + std::uint64_t{cluster} * 4, std::move(entry)});
  }

  struct Found {
    std::uint64_t at = 0;  // of its entry, bytes of the volume
    Bytes entry;
  };
  Found find_bitmap() const {
    std::uint32_t cluster = geometry_.root_cluster;
    for (std::uint64_t i = 0;
         i * geometry_.cluster_bytes < kMaxRoot && geometry_.valid_cluster(cluster);
         ++i, cluster = next_of(cluster)) {
      context_.check_cancelled();
      const std::uint64_t place = geometry_.cluster_offset(cluster);
      const Bytes slots =
          read_bytes(volume_, place, static_cast<std::size_t>(geometry_.cluster_bytes));
      for (std::size_t at = 0; at + kSlot <= slots.size(); at += kSlot) {
        if (u8(slots, at) == kEndOfFolder) refuse("it has no bitmap", "repair it first");
        if (u8(slots, at) != kBitmap || (u8(slots, at + kFlagsAt) & 1) != 0) continue;
        const ByteView entry = slice(slots, at, kSlot);
        return {place + at, Bytes(entry.begin(), entry.end())};
      }
    }
    refuse("it has no bitmap", "repair it first");
  }

  void lengthen_bitmap(std::uint64_t count) {
    Found found = find_bitmap();
    const std::uint64_t had = geometry_.cluster_count, length = le64(found.entry, kLengthAt);
    const std::uint64_t needed = divide_up(count, 8);
    if (length < divide_up(had, 8)) refuse("its bitmap is cut", "repair it first");
    std::vector<std::uint32_t> chain;
    for (std::uint32_t cluster = le32(found.entry, kStartAt);
         chain.size() < divide_up(divide_up(had, 8), geometry_.cluster_bytes);
         cluster = next_of(cluster)) {
      if (!geometry_.valid_cluster(cluster)) refuse("its bitmap is cut", "repair it first");
      chain.push_back(cluster);
    }
    if (chain.empty()) refuse("it has no bitmap", "repair it first");
    const std::uint64_t clusters = divide_up(needed, geometry_.cluster_bytes);
    // Readers take it for one run: one that needs more clusters goes to the end as a whole.
    const bool moves = chain.size() < clusters;
    taken_ = moves ? clusters : 0;
    if (had + taken_ > count)
      refuse("what is added is less than its bitmap would take", "grow it more");
    Bytes bits = read_bitmap(chain);
    // It says of itself and of the root folder that they are in use.
    for (const std::uint32_t known : {chain.front(), chain.back(), geometry_.root_cluster})
      if (!is_used(bits, known)) refuse("its bitmap is not where it belongs", "repair it first");
    used_ = used_in(bits) + taken_ - (moves ? chain.size() : 0);
    bits.resize(static_cast<std::size_t>(clusters * geometry_.cluster_bytes));
    const auto set = [&](std::uint64_t cluster, bool used) {
      std::byte& byte = bits[static_cast<std::size_t>((cluster - 2) / 8)];
      const auto mask = static_cast<std::byte>(1u << (cluster - 2) % 8);
      byte = used ? byte | mask : byte & ~mask;
    };
    for (std::uint64_t c = had + 2; c % 8 != 2; ++c) set(c, false);
    std::fill(bits.begin() + static_cast<std::ptrdiff_t>(divide_up(had, 8)), bits.end(),
              std::byte{0});
    if (moves) {
      for (const std::uint32_t cluster : chain) {
        set(cluster, false);
        set_next(cluster, 0);
      }
      chain.clear();
      for (std::uint64_t i = 0; i < clusters; ++i) {
        const auto fresh = static_cast<std::uint32_t>(had + 2 + i);
        set(fresh, true);
        set_next(fresh, i + 1 < clusters ? fresh + 1 : kEnd);
        chain.push_back(fresh);
      }
    }
    for (std::size_t i = 0; i < chain.size() && i < clusters; ++i) {
      const ByteView piece = slice(bits, i * static_cast<std::size_t>(geometry_.cluster_bytes),
                                   static_cast<std::size_t>(geometry_.cluster_bytes));
      writes_.push_back({geometry_.cluster_offset(chain[i]), Bytes(piece.begin(), piece.end())});
    }
    writes_.push_back({geometry_.table_offset + (had + 2) * 4, tail_});
    store_le32(found.entry, kStartAt, chain.front());
    store_le64(found.entry, kLengthAt, needed);
    writes_.push_back({found.at, std::move(found.entry)});
  }

  Bytes read_bitmap(const std::vector<std::uint32_t>& chain) const {
    Bytes bits;
    for (const std::uint32_t cluster : chain) {
      context_.check_cancelled();
      const Bytes part = read_bytes(volume_, geometry_.cluster_offset(cluster),
                                    static_cast<std::size_t>(geometry_.cluster_bytes));
      if (part.size() < geometry_.cluster_bytes)
        refuse("its bitmap cannot be read", "repair it first");
      bits.insert(bits.end(), part.begin(), part.end());
    }
    return bits;
  }

  bool is_used(const Bytes& bits, std::uint32_t cluster) const {
    return geometry_.valid_cluster(cluster) &&
           (u8(bits, (cluster - 2) / 8) >> (cluster - 2) % 8 & 1) != 0;
  }
  std::uint64_t used_in(const Bytes& bits) const {
    std::uint64_t used = 0;
    for (std::uint32_t c = 2; geometry_.valid_cluster(c); ++c) used += is_used(bits, c) ? 1u : 0u;
    return used;
  }

  // The copy first.
  void write_heads(std::uint64_t sectors, std::uint64_t count) {
    Bytes region = region_;
    store_le64(region, kSectorsAt, sectors);
    store_le32(region, kTableSectorsAt, table_bytes_ / sector());
    store_le32(region, kClustersAt, count);
    if (u8(region, kShareAt) != 0xFF)
      region[kShareAt] = static_cast<std::byte>(used_ * 100 / count);
    exfat::store_boot_sum(region, sector());
    writes_.push_back({region.size(), region});
    writes_.push_back({0, std::move(region)});
  }

  const ByteSource& volume_;
  std::string address_;
  const Context& context_;
  exfat::Geometry geometry_;
  Bytes region_;                                          // the boot region
  Bytes tail_;                                            // of the FAT, from the first new entry on
  std::uint64_t table_bytes_ = 0, taken_ = 0, used_ = 0;  // afterwards; clusters for the bitmap
  std::vector<VolumeWrite> writes_;
};

}  // namespace

GrownFileSystem grow_exfat(const SourcePtr& volume, const std::string& address,
                           const Context& context) {
  return ExfatGrowth(volume, address, context).run();
}

}  // namespace lantern::repair
