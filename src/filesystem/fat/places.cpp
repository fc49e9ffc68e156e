#include "filesystem/fat/places.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/bytes.h"
#include "container/expectations.h"
#include "filesystem/fat/boot_sector.h"
#include "lantern/volume_table.h"
#include "volume/table_places.h"

namespace lantern::fat {
namespace {

constexpr std::size_t kMaxVolumes = 64;
// Entries that must name their own place before a part of a table counts as known.
constexpr std::size_t kEnoughEntries = 48;

struct Volume {
  std::uint64_t start = 0;  // bytes of the disk
  Geometry geometry;
};

void add_volume(std::vector<Volume>& volumes, std::uint64_t start, const Geometry& geometry) {
  const bool had = std::any_of(volumes.begin(), volumes.end(),
                               [&](const Volume& v) { return v.start == start; });
  if (!had && volumes.size() < kMaxVolumes) volumes.push_back({start, geometry});
}

std::optional<Geometry> boot_sector_at(const ByteSource& source, std::uint64_t at) {
  Bytes sector(kSector);
  const ReadResult got = source.read(at, sector);
  if (got.length < sector.size() || !got.unreadable.empty()) return std::nullopt;
  return parse_boot_sector(sector);
}

// Volumes whose boot sectors have their place already.
std::vector<Volume> known_volumes(const SourcePtr& known, const std::vector<VolumeRow>& rows) {
  std::vector<Volume> volumes;
  if (const auto whole = boot_sector_at(*known, 0)) add_volume(volumes, 0, *whole);
  for (const VolumeRow& row : rows)
    if (const auto geometry = boot_sector_at(*known, row.range.offset))
      add_volume(volumes, row.range.offset, *geometry);
  return volumes;
}

class Search final : public PlaceFinder {
 public:
  Search(const LoosePieces& loose, const Context& context) : loose_(loose), context_(context) {}

  void look(std::size_t piece, std::uint64_t within, ByteView sector) override {
    const std::uint8_t jump = u8(sector, 0);
    if ((jump == 0xEB || jump == 0xE9) && has_boot_mark(sector)) {
      if (const auto geometry = parse_boot_sector(sector))
        boots_.push_back({piece, within, std::uint64_t{le32(sector, 28)} * geometry->sector_bytes,
                          std::uint64_t{le16(sector, 50)} * geometry->sector_bytes, *geometry});
    } else if (jump == '.') {
      if (const auto folder = folder_start(sector)) folders_.push_back({piece, within, *folder});
    } else if (const auto number = table_sector(sector)) {
      tables_.push_back({piece, within, number->first, number->second});
    }
  }

  std::vector<PlaceClaim> claims(const SourcePtr& known, Expectations& expected) override {
    known_ = known;
    claims_.clear();
    heads_.clear();
    const std::vector<VolumeRow> rows =
        read_volume_table(known, std::nullopt, known_formats(), context_).rows;
    volumes_ = known_volumes(known, rows);
    place_boots(rows);
    place_folders();
    place_tables();
    for (const Volume& volume : volumes_) {
      root_of(volume);
      expect_folders(volume, expected);
    }
    return std::move(claims_);
  }

 private:
  struct FoundBoot {
    std::size_t piece = 0;
    std::uint64_t within = 0;  // bytes, like all here
    std::uint64_t said = 0;    // where the volume begins
    std::uint64_t spare = 0;   // how far behind it its spare is
    Geometry geometry;
  };
  struct FolderStart {
    std::uint32_t low = 0, high = 0;  // of the cluster it says it begins in

    std::uint32_t cluster(Width width) const {
      return width == Width::fat32 ? high << 16 | low : low;
    }
  };
  struct FoundFolder {
    std::size_t piece = 0;
    std::uint64_t within = 0;
    FolderStart start;
  };
  struct FoundTable {
    std::size_t piece = 0;
    std::uint64_t within = 0;
    Width width{};
    std::uint64_t number = 0;  // of the sector in its table
  };

  std::uint64_t piece_bytes() const { return loose_.piece_bytes; }

  // A claim for the piece from the place on the disk of something that lies `within` it.
  void claim(std::size_t piece, std::uint64_t place, std::uint64_t within, std::string why) {
    if (place < within || (place - within) % piece_bytes() != 0) return;
    claims_.push_back({piece, place - within, std::move(why)});
  }

  void place_boots(const std::vector<VolumeRow>& rows) {
    std::set<std::pair<std::size_t, std::uint64_t>> seen;  // piece, bytes of it
    for (const FoundBoot& boot : boots_) {
      const auto start = volume_start(rows, known_->size(), boot.geometry.volume_bytes, boot.said);
      if (!start) continue;
      // FAT32 keeps a spare: the second of two is that, and so is one that fits only its place.
      const std::uint64_t spare_at = boot.geometry.width == Width::fat32 ? boot.spare : 0;
      const bool fits_first = *start >= boot.within && (*start - boot.within) % piece_bytes() == 0;
      const bool is_spare =
          spare_at != 0 &&
          (seen.contains({boot.piece, boot.within - std::min(boot.within, spare_at)}) ||
           !fits_first);
      seen.emplace(boot.piece, boot.within);
      add_volume(volumes_, *start, boot.geometry);
      claim(boot.piece, is_spare ? *start + spare_at : *start, boot.within,
            fmt::format("it holds the boot sector of the FAT volume at byte {}", *start));
    }
  }

  // The cluster a folder says it begins in; empty when this is no start of a folder.
  static std::optional<FolderStart> folder_start(ByteView sector) {
    constexpr std::size_t kEntry = 32;
    constexpr std::uint8_t kIsFolder = 0x10;
    if (!has_text(sector, 0, ".          ") || !has_text(sector, kEntry, "..         ") ||
        (u8(sector, 11) & kIsFolder) == 0 || (u8(sector, kEntry + 11) & kIsFolder) == 0)
      return std::nullopt;
    return FolderStart{le16(sector, 26), le16(sector, 20)};
  }

  void place_folders() {
    for (const FoundFolder& folder : folders_)
      for (const Volume& volume : volumes_) {
        const std::uint32_t cluster = folder.start.cluster(volume.geometry.width);
        if (!volume.geometry.valid_cluster(cluster)) continue;
        heads_.emplace(volume.start, cluster);
        claim(folder.piece, volume.start + volume.geometry.cluster_offset(cluster), folder.within,
              fmt::format("it holds a folder that says it begins in cluster {} of the FAT volume "
                          "at byte {}",
                          cluster, volume.start));
      }
  }

  bool is_folder(const Volume& volume, std::uint32_t cluster) const {
    if (heads_.contains({volume.start, cluster})) return true;
    Bytes sector(kSector);
    const ReadResult got =
        known_->read(volume.start + volume.geometry.cluster_offset(cluster), sector);
    if (got.length < sector.size() || !got.unreadable.empty()) return false;
    const auto start = folder_start(sector);
    return start && start->cluster(volume.geometry.width) == cluster;
  }

  // How many folders an entry of this sector leads to; 0 where one leads nowhere.
  std::size_t folders_in(const Volume& volume, ByteView sector) const {
    constexpr std::size_t kEntry = 32;
    constexpr std::uint8_t kIsFolder = 0x10, kLongEntry = 0x0F, kDeleted = 0xE5;
    std::size_t folders = 0;
    for (std::size_t at = 0; at + kEntry <= sector.size(); at += kEntry) {
      const std::uint8_t first = u8(sector, at), attributes = u8(sector, at + 11);
      if (first == 0) break;
      if (first == kDeleted || attributes == kLongEntry || (attributes & kIsFolder) == 0) continue;
      const std::uint32_t high = volume.geometry.width == Width::fat32 ? le16(sector, at + 20) : 0;
      const std::uint32_t cluster = high << 16 | le16(sector, at + 26);
      if (!volume.geometry.valid_cluster(cluster) || !is_folder(volume, cluster)) return 0;
      ++folders;
    }
    return folders;
  }

  // Further clusters of the root and of folders, as their chains have them.
  void expect_folders(const Volume& volume, Expectations& expected) const {
    if (volume.geometry.width == Width::fat12) return;
    std::vector<std::uint32_t> firsts;
    if (volume.geometry.width == Width::fat32) firsts.push_back(volume.geometry.root_cluster);
    for (const auto& [start, cluster] : heads_)
      if (start == volume.start) firsts.push_back(cluster);
    constexpr int kMostClusters = 4096;  // of a folder
    for (const std::uint32_t first : firsts) {
      std::uint32_t cluster = next_of(volume, first);
      for (int i = 0; i < kMostClusters && volume.geometry.valid_cluster(cluster); ++i) {
        context_.check_cancelled();
        expected.add({volume.start + volume.geometry.cluster_offset(cluster), kSector},
                     "more of a folder",
                     [this, &volume](ByteView sector) { return weigh_entries(volume, sector); });
        cluster = next_of(volume, cluster);
      }
    }
  }

  std::uint32_t next_of(const Volume& volume, std::uint32_t cluster) const {
    const bool wide = volume.geometry.width == Width::fat32;
    Bytes entry(wide ? 4 : 2);
    const ReadResult got = known_->read(
        volume.start + volume.geometry.table_offset + std::uint64_t{cluster} * entry.size(), entry);
    if (got.length < entry.size() || !got.unreadable.empty()) return 0;
    return wide ? le32(entry, 0) & 0x0FFFFFFF : le16(entry, 0);
  }

  // Bits (container/expectations.h): entries of a folder, those of others most of all.
  double weigh_entries(const Volume& volume, ByteView sector) const {
    constexpr std::size_t kEntry = 32;
    constexpr std::uint8_t kIsFolder = 0x10, kLongEntry = 0x0F, kDeleted = 0xE5;
    constexpr double kOne = 1, kLeads = 8, kWrong = -8, kSure = 30;
    double weight = 0;
    for (std::size_t at = 0; at + kEntry <= sector.size() && u8(sector, at) != 0; at += kEntry) {
      const std::uint8_t attributes = u8(sector, at + 11);
      if ((attributes & 0xC0) != 0) return kWrong;
      if (attributes == kLongEntry) {
        // The parts of a long name are counted, and have no cluster.
        if ((u8(sector, at) & 0x3F) > 20 || le16(sector, at + 26) != 0) return kWrong;
        weight += kOne;
        continue;
      }
      const std::uint32_t high = volume.geometry.width == Width::fat32 ? le16(sector, at + 20) : 0;
      const std::uint32_t cluster = high << 16 | le16(sector, at + 26);
      if (cluster != 0 && !volume.geometry.valid_cluster(cluster)) return kWrong;
      if (u8(sector, at) == kDeleted || (attributes & kIsFolder) == 0)
        weight += kOne;
      else
        weight += is_folder(volume, cluster) ? kLeads : kWrong;
    }
    return weight == 0 ? kWrong : std::min(weight, kSure);
  }

  // The root says nothing of itself: its place is known, and its folders say where they begin.
  void root_of(const Volume& volume) {
    constexpr std::size_t kMinFolders = 2;
    const std::uint64_t place =
        volume.start + (volume.geometry.width == Width::fat32
                            ? volume.geometry.cluster_offset(volume.geometry.root_cluster)
                            : volume.geometry.root_offset);
    const std::uint64_t within = place % piece_bytes();
    for (std::size_t piece = 0; piece < loose_.bytes.size(); ++piece) {
      context_.check_cancelled();
      if (loose_.placed[piece]) continue;
      Bytes sector(kSector);
      if (loose_.bytes[piece]->read(within, sector).length < sector.size()) continue;
      const std::size_t folders = folders_in(volume, sector);
      if (folders >= kMinFolders)
        claim(
            piece, place, within,
            fmt::format("it holds a folder with {} others that begin where it has them, where the "
                        "root of the FAT volume at byte {} is",
                        folders, volume.start));
    }
  }

  // Where in its table a sector of entries lies, by the entries that name the one behind them.
  static std::optional<std::pair<Width, std::uint64_t>> table_sector(ByteView sector) {
    for (const Width width : {Width::fat32, Width::fat16}) {
      const std::size_t bytes = width == Width::fat32 ? 4 : 2;
      const std::size_t count = sector.size() / bytes;
      const auto value_at = [&](std::size_t i) -> std::uint64_t {
        return bytes == 4 ? le32(sector, i * 4) & 0x0FFFFFFF : le16(sector, i * 2);
      };
      std::size_t follow = 0;
      // A few tell of most sectors that they are no table.
      constexpr std::size_t kFew = 16;
      for (std::size_t i = 3; i < count; i += count / kFew)
        if (value_at(i) == value_at(i - 1) + 1) ++follow;
      if (follow < 2) continue;
      follow = 0;
      for (std::size_t i = 1; i < count; ++i)
        if (value_at(i) == value_at(i - 1) + 1) ++follow;
      if (follow < kEnoughEntries) continue;
      std::map<std::uint64_t, std::size_t> votes;
      std::size_t used = 0;
      for (std::size_t i = 0; i < count; ++i) {
        const std::uint64_t value = value_at(i);
        if (value == 0) continue;
        ++used;
        if (value > i && (value - 1 - i) % count == 0) ++votes[(value - 1 - i) / count];
      }
      const auto best =
          std::max_element(votes.begin(), votes.end(),
                           [](const auto& a, const auto& b) { return a.second < b.second; });
      if (best != votes.end() && best->second >= kEnoughEntries && best->second * 2 >= used)
        return std::pair(width, best->first);
    }
    return std::nullopt;
  }

  // A sector may be of one copy of the table or of the other: a piece is placed when only one of
  // both fits a piece's border, or both lie in the same piece.
  void place_tables() {
    for (const Volume& volume : volumes_) {
      std::map<std::size_t, std::map<std::uint64_t, std::size_t>> fits;
      for (const FoundTable& table : tables_) {
        if (table.width != volume.geometry.width ||
            table.number * kSector >= volume.geometry.table_bytes)
          continue;
        for (std::uint32_t copy = 0; copy < volume.geometry.table_count; ++copy) {
          const std::uint64_t place = volume.start + volume.geometry.table_offset +
                                      copy * volume.geometry.table_bytes + table.number * kSector;
          if (place >= table.within && (place - table.within) % piece_bytes() == 0)
            ++fits[table.piece][place - table.within];
        }
      }
      for (const auto& [piece, places] : fits)
        if (places.size() == 1)
          claims_.push_back(
              {piece, places.begin()->first,
               fmt::format("it holds {} sectors of the table of the FAT volume at byte {}",
                           places.begin()->second, volume.start)});
    }
  }

  const LoosePieces& loose_;
  const Context& context_;
  std::vector<FoundBoot> boots_;
  std::vector<FoundFolder> folders_;
  std::vector<FoundTable> tables_;
  SourcePtr known_;  // these are of what is known by now
  std::vector<Volume> volumes_;
  std::set<std::pair<std::uint64_t, std::uint32_t>> heads_;  // folders: volume's start, cluster
  std::vector<PlaceClaim> claims_;
};

}  // namespace

std::unique_ptr<PlaceFinder> places(const LoosePieces& loose, const Context& context) {
  return std::make_unique<Search>(loose, context);
}

}  // namespace lantern::fat
