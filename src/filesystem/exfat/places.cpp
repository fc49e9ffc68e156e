#include "filesystem/exfat/places.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "base/kinds/content_kind.h"
#include "container/expectations.h"
#include "filesystem/exfat/clusters.h"
#include "lantern/sources.h"
#include "lantern/volume_table.h"
#include "volume/table_places.h"

namespace lantern::exfat {
namespace {

constexpr std::size_t kMaxBoots = 4096;
constexpr std::size_t kMaxFolders = 65'536;  // of a volume
constexpr std::size_t kMaxSets = 1u << 20;
constexpr std::uint64_t kBackupSectors = 12;
constexpr std::uint8_t kBitmapSlot = 0x81, kCapitalsSlot = 0x82;
// Bits of what a check says (container/expectations.h).
constexpr double kSure = 30, kWrong = -8, kFits = 5, kNotSo = -4;

struct FoundBoot {
  std::size_t piece = 0;
  std::uint64_t within = 0, said = 0;  // bytes; `said`: where the volume begins
  Geometry geometry;
};

bool begins_set(ByteView bytes) {
  constexpr std::uint8_t kFile = 0x05, kStream = 0x40, kInUse = 0x80;
  constexpr std::uint8_t kMostFollowing = 18;
  return (u8(bytes, 0) & ~kInUse) == kFile && u8(bytes, 1) >= 2 && u8(bytes, 1) <= kMostFollowing &&
         (u8(bytes, kSlotBytes) & ~kInUse) == kStream;
}

std::uint32_t capitals_sum(ByteView table) {
  std::uint32_t sum = 0;
  for (const std::byte b : table)
    sum = ((sum & 1) << 31 | sum >> 1) + std::to_integer<std::uint32_t>(b);
  return sum;
}

// One volume, as far as it is known.
class Known {
 public:
  Known(const SourcePtr& bytes, std::uint64_t start, const Geometry& geometry, double folder_bits,
        const Context& context)
      : start_(start),
        folder_bits_(folder_bits),
        context_(context),
        volume_{bytes, bytes, geometry, nullptr, context} {}

  void expect(Expectations& expected) {
    walk(expected);
    expect_table(expected);
    expect_root(expected);
    expect_own_files(expected);
  }

 private:
  std::uint64_t place(std::uint32_t cluster) const {
    return start_ + volume_.geometry.cluster_offset(cluster);
  }

  bool read_all(std::uint64_t at, std::span<std::byte> out) const {
    const ReadResult got = volume_.raw->read(at, out);
    return got.length == out.size() && got.unreadable.empty();
  }

  void expect_table(Expectations& expected) const {
    expected.add(
        {start_ + volume_.geometry.table_offset, 8}, "the start of the FAT", [](ByteView bytes) {
          return le32(bytes, 0) == 0xFFFFFFF8 && le32(bytes, 4) == 0xFFFFFFFF ? kSure : kWrong;
        });
  }

  void expect_root(Expectations& expected) const {
    expected.add({place(volume_.geometry.root_cluster), kSector}, "the root folder",
                 [geometry = volume_.geometry](ByteView bytes) {
                   bool bitmap = false, capitals = false;
                   for (std::size_t at = 0; at < bytes.size(); at += kSlotBytes) {
                     const bool leads = geometry.valid_cluster(le32(bytes, at + 0x14));
                     bitmap = bitmap || (u8(bytes, at) == kBitmapSlot && leads);
                     capitals = capitals || (u8(bytes, at) == kCapitalsSlot && leads);
                   }
                   return bitmap && capitals ? kSure : kWrong;
                 });
  }

  // The bitmap and the table of capitals, by what the root folder says of them.
  void expect_own_files(Expectations& expected) const {
    Bytes slots(kSector);
    const Geometry& geometry = volume_.geometry;
    if (!read_all(geometry.cluster_offset(geometry.root_cluster), slots)) return;
    for (std::size_t at = 0; at < slots.size(); at += kSlotBytes) {
      const std::uint32_t cluster = le32(slots, at + 0x14);
      const std::uint64_t size = le64(slots, at + 0x18);
      if (!geometry.valid_cluster(cluster)) continue;
      if (u8(slots, at) == kCapitalsSlot && size > 0 && size <= (1u << 17))
        expected.add({place(cluster), size}, "the table of capitals",
                     [said = le32(slots, at + 4)](ByteView bytes) {
                       return capitals_sum(bytes) == said ? kSure : kWrong;
                     });
      if (u8(slots, at) == kBitmapSlot && size > 0)
        expected.add({place(cluster), std::min(size, geometry.cluster_bytes)},
                     "the bitmap of clusters",
                     [this](ByteView bytes) { return weigh_bitmap(bytes); });
    }
  }

  // Clusters of what is known are in use: the more bits are clear, the more that says.
  double weigh_bitmap(ByteView bits) const {
    const std::size_t count =
        std::min<std::size_t>(bits.size() * 8, volume_.geometry.cluster_count);
    std::size_t set = 0;
    for (std::size_t i = 0; i < count; ++i)
      if ((u8(bits, i / 8) >> (i % 8) & 1) != 0) ++set;
    if (set == 0) return kWrong;
    const double of_one = -std::log2(static_cast<double>(set) / static_cast<double>(count));
    double weight = 0;
    for (const std::uint32_t cluster : used_) {
      const std::size_t i = cluster - 2;
      if (i >= count) break;
      weight += (u8(bits, i / 8) >> (i % 8) & 1) != 0 ? of_one : kWrong;
    }
    return std::clamp(weight, 4 * kWrong, kSure);
  }

  // All folders that can be read. Those that cannot are expected where their sets say.
  void walk(Expectations& expected) {
    std::vector<std::vector<ClusterRun>> folders{volume_.root_runs()};
    std::set<std::uint32_t> met{volume_.geometry.root_cluster};
    std::size_t sets = 0;
    for (std::size_t i = 0; i < folders.size() && i < kMaxFolders; ++i) {
      use(folders[i]);
      SetReader reader(volume_.bytes_of(folders[i], volume_.raw));
      while (const auto set = reader.next()) {
        context_.check_cancelled();
        if (++sets > kMaxSets) return;
        if (set->deleted || !volume_.geometry.valid_cluster(set->first_cluster)) continue;
        const auto runs = volume_.clusters_of(*set);
        if (!set->folder()) {
          use(runs);
        } else if (met.insert(set->first_cluster).second) {
          folders.push_back(runs);
          expected.add({place(set->first_cluster), volume_.geometry.cluster_bytes},
                       fmt::format("the folder of cluster {}", set->first_cluster),
                       [this](ByteView bytes) { return weigh_folder(bytes); });
        }
      }
    }
  }

  void use(const std::vector<ClusterRun>& runs) {
    constexpr std::size_t kMostUsed = 4096;
    for (const ClusterRun& run : runs)
      for (std::uint64_t i = 0; i < run.count && used_.size() < kMostUsed; ++i)
        used_.insert(run.first + static_cast<std::uint32_t>(i));
  }

  // A folder begins with a set, and what it holds is known by where that lies.
  double weigh_folder(ByteView bytes) const {
    if (!begins_set(bytes)) return all_zero(bytes.first(kSlotBytes)) ? 0 : kWrong;
    double weight = folder_bits_;
    SetReader reader(make_memory_source(Bytes(bytes.begin(), bytes.end())));
    constexpr int kMostSets = 64;
    for (int i = 0; i < kMostSets && weight > 2 * kWrong; ++i) {
      const auto set = reader.next();
      if (!set) break;
      if (set->deleted || set->first_cluster == 0) continue;
      weight += volume_.geometry.valid_cluster(set->first_cluster) ? weigh_set(*set) : kWrong;
    }
    return std::min(weight, kSure);
  }

  double weigh_set(const EntrySet& set) const {
    Bytes start(kSector);
    if (!read_all(volume_.geometry.cluster_offset(set.first_cluster), start)) return 0;
    if (set.folder()) return begins_set(start) ? kFits : all_zero(start) ? 0 : kWrong;
    const std::size_t dot = set.name.rfind('.');
    if (dot == std::string::npos) return 0;
    const auto kinds = content_kinds(set.name.substr(dot + 1));
    if (kinds.empty()) return 0;
    const std::string_view kind = content_kind(start);
    if (std::find(kinds.begin(), kinds.end(), kind) == kinds.end()) return kNotSo;
    return kind == "txt" ? 1 : kFits;
  }

  std::uint64_t start_ = 0;  // bytes of the disk
  double folder_bits_ = 0;   // of a cluster that begins like a folder
  const Context& context_;
  Volume volume_;
  std::set<std::uint32_t> used_;  // clusters
};

class Search final : public PlaceFinder {
 public:
  Search(const LoosePieces& loose, const Context& context) : loose_(loose), context_(context) {}

  void look(std::size_t piece, std::uint64_t within, ByteView sector) override {
    ++sectors_;
    if (begins_set(sector)) ++folders_;
    if (!has_text(sector, 3, "EXFAT   ") || boots_.size() >= kMaxBoots) return;
    if (const auto geometry = parse_boot_sector(sector))
      boots_.push_back({piece, within, le64(sector, 0x40) * geometry->sector_bytes, *geometry});
  }

  std::vector<PlaceClaim> claims(const SourcePtr& known, Expectations& expected) override {
    claims_.clear();
    volumes_.clear();
    const auto rows = read_volume_table(known, std::nullopt, known_formats(), context_).rows;
    for (const VolumeRow& row : rows) known_boot(*known, row.range.offset);
    known_boot(*known, 0);
    place_boots(rows, known->size());
    known_.clear();
    for (const auto& [start, geometry] : volumes_) {
      // No volume is larger than its disk, nor are its clusters.
      if (start >= known->size() || geometry.volume_bytes > known->size() - start ||
          geometry.cluster_count > geometry.volume_bytes / geometry.cluster_bytes)
        continue;
      const double clusters = std::max(1.0, static_cast<double>(sectors_) * kSector /
                                                static_cast<double>(geometry.cluster_bytes));
      const SourcePtr bytes = make_window(
          unquestioned(known), intersect({start, geometry.volume_bytes}, {0, known->size()}));
      known_.push_back(std::make_unique<Known>(
          bytes, start, geometry,
          std::max(0.0, -std::log2((static_cast<double>(folders_) + 0.5) / clusters)), context_));
      known_.back()->expect(expected);
    }
    return std::move(claims_);
  }

 private:
  void known_boot(const ByteSource& known, std::uint64_t at) {
    Bytes sector(kSector);
    const ReadResult got = known.read(at, sector);
    if (got.length < sector.size() || !got.unreadable.empty()) return;
    if (const auto geometry = parse_boot_sector(sector)) volumes_.emplace(at, *geometry);
  }

  void place_boots(const std::vector<VolumeRow>& rows, std::uint64_t disk_bytes) {
    std::set<std::pair<std::size_t, std::uint64_t>> seen;  // piece, bytes of it
    for (const FoundBoot& boot : boots_) {
      const auto start = volume_start(rows, disk_bytes, boot.geometry.volume_bytes, boot.said);
      if (!start || *start >= disk_bytes) continue;
      volumes_.emplace(*start, boot.geometry);
      const auto fits = [&](std::uint64_t place) {
        return place >= boot.within && (place - boot.within) % loose_.piece_bytes == 0;
      };
      // Of two in a piece the second is the copy, and so is one that fits only its place.
      const std::uint64_t behind = kBackupSectors * boot.geometry.sector_bytes;
      const bool copy =
          seen.contains({boot.piece, boot.within - std::min(boot.within, behind)}) || !fits(*start);
      seen.emplace(boot.piece, boot.within);
      const std::uint64_t place = copy ? *start + behind : *start;
      if (fits(place))
        claims_.push_back(
            {boot.piece, place - boot.within,
             fmt::format("it holds the boot sector of the exFAT volume at byte {}", *start)});
    }
  }

  const LoosePieces& loose_;
  const Context& context_;
  std::vector<FoundBoot> boots_;
  std::uint64_t sectors_ = 0, folders_ = 0;    // that begin like a folder
  std::map<std::uint64_t, Geometry> volumes_;  // by where they begin, of what is known by now
  std::vector<std::unique_ptr<Known>> known_;  // what was expected asks them
  std::vector<PlaceClaim> claims_;
};

}  // namespace

std::unique_ptr<PlaceFinder> places(const LoosePieces& loose, const Context& context) {
  return std::make_unique<Search>(loose, context);
}

}  // namespace lantern::exfat
