#include "repair/grow/file_system/fat_growth.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/checked.h"
#include "base/store.h"
#include "filesystem/fat/boot_sector.h"
#include "lantern/error.h"
#include "lantern/text.h"
#include "repair/diagnose/diagnosis.h"

namespace lantern::repair {
namespace {

using fat::Geometry;
using fat::Width;

// Of the boot sector.
constexpr std::size_t kReservedAt = 0x0E, kSectors16At = 0x13, kTable16At = 0x16, kSectorsAt = 0x20,
                      kTableAt = 0x24, kRootAt = 0x2C, kInfoAt = 0x30, kSpareAt = 0x32;
constexpr std::size_t kFreeAt = 0x1E8, kNextAt = 0x1EC;  // of the sector of counts
constexpr std::size_t kSlot = 32, kSlotKindAt = 11, kStartHighAt = 20, kStartAt = 26;
constexpr std::uint64_t kMaxTable = 64u << 20, kMaxFolders = 256u << 20;  // bytes

// One table, in memory.
class Table {
 public:
  Table(Width width, std::uint64_t bytes)
      : width_(width), bytes_(static_cast<std::size_t>(bytes)) {}
  Table(Width width, Bytes bytes) : width_(width), bytes_(std::move(bytes)) {}

  std::uint32_t get(std::uint64_t cluster) const {
    if (width_ == Width::fat32)
      return le32(bytes_, static_cast<std::size_t>(cluster * 4)) & 0x0FFFFFFF;
    if (width_ == Width::fat16) return le16(bytes_, static_cast<std::size_t>(cluster * 2));
    const std::uint32_t pair = le16(bytes_, static_cast<std::size_t>(cluster * 3 / 2));
    return cluster % 2 == 0 ? pair & 0xFFF : pair >> 4;
  }
  void set(std::uint64_t cluster, std::uint32_t value) {
    const auto at = static_cast<std::size_t>(cluster * (width_ == Width::fat32 ? 4 : 2));
    if (width_ == Width::fat32) {
      store_le32(bytes_, at, (le32(bytes_, at) & 0xF0000000) | value);
    } else if (width_ == Width::fat16) {
      store_le16(bytes_, at, value);
    } else {
      const auto half = static_cast<std::size_t>(cluster * 3 / 2);
      const std::uint32_t pair = le16(bytes_, half);
      store_le16(bytes_, half,
                 cluster % 2 == 0 ? (pair & 0xF000) | value : (pair & 0x000F) | value << 4);
    }
  }
  // Bad clusters, and marks of an end: they are numbers of no cluster.
  std::uint32_t first_mark() const {
    if (width_ == Width::fat32) return 0x0FFFFFF7;
    return width_ == Width::fat16 ? 0xFFF7 : 0xFF7;
  }
  bool is_bad(std::uint32_t value) const { return value == first_mark(); }
  const Bytes& bytes() const { return bytes_; }

 private:
  Width width_;
  Bytes bytes_;
};

class FatGrowth {
 public:
  FatGrowth(const SourcePtr& volume, std::string address, const Context& context)
      : volume_(*volume),
        address_(std::move(address)),
        context_(context),
        boot_(read_bytes(volume_, 0, kSector)),
        old_(geometry()),
        table_(old_.width, Bytes()) {}

  GrownFileSystem run() {
    GrownFileSystem grown;
    grown.before_bytes = grown.after_bytes = old_.volume_bytes;
    plan();
    if (new_.cluster_count <= old_.cluster_count) return grown;
    check();
    load_table();
    displace();
    if (shift_ > 0) {
      renumber_folders();
      for (auto& [cluster, bytes] : moved_)
        writes_.push_back({new_.cluster_offset(number(cluster)), std::move(bytes)});
      if (new_.table_offset > old_.table_offset)
        writes_.push_back({old_.table_offset,
                           Bytes(static_cast<std::size_t>(new_.table_offset - old_.table_offset))});
    }
    write_tables();
    write_heads();
    grown.after_bytes = new_.volume_bytes;
    grown.more_free_bytes =
        std::uint64_t{new_.cluster_count - old_.cluster_count} * old_.cluster_bytes;
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

  Geometry geometry() const {
    const auto found = fat::parse_boot_sector(boot_);
    if (!found) refuse("the boot sector of the file system is damaged", "repair it first");
    return *found;
  }

  // Clusters that the kind has at most; more would be another kind.
  std::uint32_t most_clusters() const {
    if (old_.width == Width::fat12) return 4084;
    return old_.width == Width::fat16 ? 65524 : 0x0FFFFFF5;
  }
  std::uint64_t table_for(std::uint64_t clusters) const {
    const std::uint64_t bits = (clusters + 2) * static_cast<std::uint64_t>(old_.width);
    return divide_up(divide_up(bits, 8), old_.sector_bytes) * old_.sector_bytes;
  }

  // The tables as long as they are, where that will do; else as long as they have to be, and the
  // data as much later, in whole clusters.
  void plan() {
    new_ = old_;
    const std::uint64_t sectors =
        std::min<std::uint64_t>(volume_.size() / old_.sector_bytes, 0xFFFFFFFF);
    const std::uint64_t bytes = sectors * old_.sector_bytes;
    if (bytes <= old_.volume_bytes) return;
    const auto clusters_from = [&](std::uint64_t data) {
      return data >= bytes
                 ? 0
                 : std::min<std::uint64_t>((bytes - data) / old_.cluster_bytes, most_clusters());
    };
    std::uint64_t clusters = clusters_from(old_.data_offset);
    if (table_for(clusters) > old_.table_bytes) {
      new_.table_bytes = table_for(clusters);
      const std::uint64_t more = (new_.table_bytes - old_.table_bytes) * old_.table_count;
      shift_ = divide_up(more, old_.cluster_bytes);
      // What is left of the last cluster goes before the tables.
      new_.table_offset += shift_ * old_.cluster_bytes - more;
      new_.root_offset = old_.root_bytes == 0 ? 0 : old_.root_offset + shift_ * old_.cluster_bytes;
      new_.data_offset += shift_ * old_.cluster_bytes;
      clusters = clusters_from(new_.data_offset);
    }
    new_.cluster_count = static_cast<std::uint32_t>(clusters);
    if (clusters <= old_.cluster_count && clusters == most_clusters())
      refuse(fmt::format("a file system of this kind (FAT{}) has no more clusters",
                         static_cast<int>(old_.width)),
             "copy its files to a larger file system of another kind");
    // A cluster that is not whole is left out; at the limit of its kind so is the rest.
    new_.volume_bytes =
        clusters == most_clusters() ? new_.data_offset + clusters * old_.cluster_bytes : bytes;
  }

  void check() const {
    if (old_.only_table) not_yet("only one of its tables is kept", "grow it with its own system");
    if (new_.table_bytes > kMaxTable)
      not_yet("its table would be larger than is grown here", "grow it less");
    if (new_.table_offset / old_.sector_bytes > 0xFFFF ||
        (old_.width != Width::fat32 && new_.table_bytes / old_.sector_bytes > 0xFFFF))
      not_yet("its figures have no room for tables that are so far in", "grow it less");
  }

  void load_table() {
    const auto length = static_cast<std::size_t>(old_.table_bytes);
    Bytes first = read_bytes(volume_, old_.table_offset, length);
    for (std::uint32_t copy = 1; copy < old_.table_count; ++copy)
      if (read_bytes(volume_, old_.table_offset + copy * old_.table_bytes, length) != first)
        refuse("its tables say different things", "repair it first");
    if (first.size() < length || table_for(old_.cluster_count) > old_.table_bytes)
      refuse("its tables are cut", "repair it first");
    table_ = Table(old_.width, std::move(first));
  }

  bool is_cluster(std::uint32_t value) const { return old_.valid_cluster(value); }

  // What lies where the tables grow to, and is in use, gets numbers at the end.
  void displace() {
    // Of a small file system made much larger all of it is in the way.
    const std::uint64_t behind =
        old_.cluster_count - std::min<std::uint64_t>(shift_, old_.cluster_count);
    auto next = static_cast<std::uint32_t>(behind + 2);
    for (std::uint32_t c = 2; c < shift_ + 2; ++c) {
      context_.check_cancelled();
      const bool inside = is_cluster(c);
      if (inside && table_.is_bad(table_.get(c))) ++dropped_;
      if (!inside || table_.get(c) == 0 || table_.is_bad(table_.get(c))) continue;
      if (next - 2 >= new_.cluster_count)
        refuse("what is added is less than its tables would take", "grow it more");
      places_[c] = next++;
      moved_[c] = read_cluster(c);
    }
  }
  Bytes read_cluster(std::uint32_t cluster) const {
    Bytes bytes = read_bytes(volume_, old_.cluster_offset(cluster), old_.cluster_bytes);
    if (bytes.size() < old_.cluster_bytes)
      refuse("a cluster of it cannot be read", "make a copy with lantern image first");
    return bytes;
  }

  // The number that a cluster has afterwards; 0: nothing of it is left.
  std::uint32_t number(std::uint32_t cluster) const {
    if (!is_cluster(cluster)) return cluster;
    if (cluster >= shift_ + 2) return static_cast<std::uint32_t>(cluster - shift_);
    const auto place = places_.find(cluster);
    return place == places_.end() ? 0 : place->second;
  }

  // --- folders ----------------------------------------------------------------------------------

  void renumber_folders() {
    std::vector<bool> seen(std::size_t{old_.cluster_count} + 2);
    std::vector<std::uint32_t> folders;
    if (old_.root_bytes != 0) {
      Bytes root = read_bytes(volume_, old_.root_offset, static_cast<std::size_t>(old_.root_bytes));
      refuse_fixed(root);
      renumber(root, folders);
      writes_.push_back({new_.root_offset, std::move(root)});
    } else {
      std::uint32_t cluster = old_.root_cluster;
      for (std::uint32_t i = 0; i < old_.cluster_count && is_cluster(cluster); ++i) {
        context_.check_cancelled();
        refuse_fixed(read_cluster(cluster));
        cluster = table_.get(cluster);
      }
      folders.push_back(old_.root_cluster);
    }
    std::uint64_t changed = 0;
    while (!folders.empty()) {
      std::uint32_t cluster = folders.back();
      folders.pop_back();
      bool goes_on = true;
      while (is_cluster(cluster) && !seen[cluster] && goes_on) {
        context_.check_cancelled();
        seen[cluster] = true;
        if ((changed += old_.cluster_bytes) > kMaxFolders)
          not_yet("it has more folders than are numbered anew here", "grow it with its own system");
        if (const auto moved = moved_.find(cluster); moved != moved_.end()) {
          goes_on = renumber(moved->second, folders);
        } else {
          Bytes bytes = read_cluster(cluster);
          goes_on = renumber(bytes, folders);
          writes_.push_back({old_.cluster_offset(cluster), std::move(bytes)});
        }
        cluster = table_.get(cluster);
      }
    }
  }

  // A system file in the root folder may be a loader, whose boot code has noted the sectors that it
  // lies in: it cannot go elsewhere.
  void refuse_fixed(const Bytes& slots) {
    constexpr unsigned kSystem = 0x04, kFolderOrLabel = 0x18, kDeleted = 0xE5;
    for (std::size_t at = 0; at + kSlot <= slots.size() && u8(slots, at) != 0; at += kSlot) {
      const unsigned kind = u8(slots, at + kSlotKindAt);
      if (u8(slots, at) == kDeleted || (kind & kSystem) == 0 || (kind & kFolderOrLabel) != 0)
        continue;
      std::uint32_t cluster = start_in(slots, at);
      for (std::uint32_t i = 0; i < old_.cluster_count && is_cluster(cluster); ++i) {
        // Each cluster belongs to one of them.
        if (++of_system_files_ > old_.cluster_count)
          refuse("its table leads in a circle",
                 "check the file system with its own system's tools");
        if (cluster < shift_ + 2)
          refuse(fmt::format("{} lies where its tables would grow to, and may be a loader that is "
                             "found by its place",
                             for_terminal(text_of(slice(slots, at, 11)))),
                 "copy its files to a larger file system, and install the loader there");
        cluster = table_.get(cluster);
      }
    }
  }

  std::uint32_t start_in(const Bytes& slots, std::size_t at) const {
    const std::uint32_t high = old_.width == Width::fat32 ? le16(slots, at + kStartHighAt) : 0;
    return high << 16 | le16(slots, at + kStartAt);
  }

  // The starts in a part of a folder. False: it ends in it.
  bool renumber(Bytes& slots, std::vector<std::uint32_t>& folders) const {
    constexpr unsigned kLongName = 0x0F, kFolder = 0x10, kLabel = 0x08, kDeleted = 0xE5;
    for (std::size_t at = 0; at + kSlot <= slots.size(); at += kSlot) {
      if (u8(slots, at) == 0) return false;
      const unsigned kind = u8(slots, at + kSlotKindAt);
      if ((kind & 0x3F) == kLongName || (kind & kLabel) != 0) continue;
      const std::uint32_t start = start_in(slots, at);
      const std::uint32_t now = number(start);
      store_le16(slots, at + kStartAt, now & 0xFFFF);
      if (old_.width == Width::fat32) store_le16(slots, at + kStartHighAt, now >> 16);
      const bool own = u8(slots, at) == '.';  // itself, and the folder it is in
      if ((kind & kFolder) != 0 && !own && u8(slots, at) != kDeleted) folders.push_back(start);
    }
    return true;
  }

  // --- tables and heads -------------------------------------------------------------------------

  void write_tables() {
    Table made(old_.width, new_.table_bytes);
    for (std::uint32_t c = 0; c < 2; ++c) made.set(c, table_.get(c));
    for (std::uint32_t c = 2; is_cluster(c); ++c) {
      if (c % 65536 == 0) context_.check_cancelled();
      const std::uint32_t value = table_.get(c), own = number(c);
      if (value == 0 || own == 0) continue;
      if (value < table_.first_mark() && (!is_cluster(value) || number(value) == 0))
        refuse(fmt::format("its table leads from cluster {} to one that cannot be", c),
               "check the file system with its own system's tools first");
      made.set(own, value < table_.first_mark() ? number(value) : value);
    }
    if (shift_ == 0) {
      made = table_;
      for (std::uint32_t c = old_.cluster_count + 2; c < new_.cluster_count + 2; ++c)
        made.set(c, 0);
    }
    for (std::uint32_t copy = 0; copy < old_.table_count; ++copy)
      writes_.push_back({new_.table_offset + copy * new_.table_bytes, made.bytes()});
  }

  void write_heads() {
    Bytes boot = boot_;
    const std::uint64_t sector = old_.sector_bytes;
    const std::uint64_t sectors = new_.volume_bytes / sector;
    const bool is_small = old_.width != Width::fat32 && sectors < 0x10000;
    store_le16(boot, kSectors16At, is_small ? sectors : 0);
    store_le32(boot, kSectorsAt, is_small ? 0 : sectors);
    store_le16(boot, kReservedAt, new_.table_offset / sector);
    if (old_.width == Width::fat32) {
      store_le32(boot, kTableAt, new_.table_bytes / sector);
      store_le32(boot, kRootAt, number(old_.root_cluster));
      const std::uint64_t spare = le16(boot_, kSpareAt), info = le16(boot_, kInfoAt);
      const bool has_spare = spare != 0 && spare != 0xFFFF && spare * sector < old_.table_offset;
      if (info != 0 && info != 0xFFFF && info * sector < old_.table_offset) {
        counts(info * sector);
        if (has_spare && (spare + info) * sector < old_.table_offset)
          counts((spare + info) * sector);
      }
      if (has_spare) {
        Bytes copy = read_bytes(volume_, spare * sector, kSector);
        if (fat::parse_boot_sector(copy) == fat::parse_boot_sector(boot_))
          writes_.push_back({spare * sector, boot});
      }
    } else {
      store_le16(boot, kTable16At, new_.table_bytes / sector);
    }
    writes_.push_back({0, std::move(boot)});
  }

  // The sector that notes how many clusters are free; it may say that it does not know.
  void counts(std::uint64_t at) {
    constexpr std::uint32_t kUnknown = 0xFFFFFFFF;
    Bytes info = read_bytes(volume_, at, kSector);
    if (info.size() < kSector || !has_text(info, 0, "RRaA")) return;
    const std::uint32_t free = le32(info, kFreeAt);
    if (free != kUnknown)
      store_le32(info, kFreeAt, free + dropped_ + (new_.cluster_count - old_.cluster_count));
    if (shift_ > 0) store_le32(info, kNextAt, kUnknown);
    writes_.push_back({at, std::move(info)});
  }

  const ByteSource& volume_;
  std::string address_;
  const Context& context_;
  Bytes boot_;
  Geometry old_, new_;
  Table table_;
  std::uint64_t shift_ = 0;                        // clusters by which the data begin later
  std::map<std::uint32_t, std::uint32_t> places_;  // of clusters that move: the new numbers
  std::map<std::uint32_t, Bytes> moved_;           // their content, by the old number
  std::uint64_t of_system_files_ = 0;              // clusters that were looked at
  std::uint32_t dropped_ = 0;                      // bad clusters where tables are now
  std::vector<VolumeWrite> writes_;
};

}  // namespace

GrownFileSystem grow_fat(const SourcePtr& volume, const std::string& address,
                         const Context& context) {
  return FatGrowth(volume, address, context).run();
}

}  // namespace lantern::repair
