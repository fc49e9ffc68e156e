#include "filesystem/fat/places.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/bytes.h"
#include "filesystem/fat/boot_sector.h"
#include "lantern/volume_table.h"
#include "volume/table_places.h"

namespace lantern::fat {
namespace {

constexpr std::size_t kPiece = 64u << 10;
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

std::vector<VolumeRow> known_rows(const SourcePtr& known, const Context& context) {
  Context quiet = context;
  quiet.findings = std::make_shared<FindingSink>();
  return read_volume_table(known, std::nullopt, known_formats(), quiet).rows;
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

class Search {
 public:
  Search(const SourcePtr& known, const std::vector<SourcePtr>& loose, const Context& context)
      : known_(known),
        loose_(loose),
        context_(context),
        rows_(known_rows(known, context)),
        volumes_(known_volumes(known, rows_)) {}

  std::vector<PlaceClaim> run() {
    for (std::size_t i = 0; i < loose_.size(); ++i) boot_sectors_of(i);
    for (std::size_t i = 0; i < loose_.size(); ++i) {
      context_.check_cancelled();
      folders_of(i);
      tables_of(i);
    }
    for (const Volume& volume : volumes_) root_of(volume);
    return std::move(claims_);
  }

 private:
  std::uint64_t piece_bytes() const { return loose_.front()->size(); }

  // A claim for the piece from the place on the disk of something that lies `within` it.
  void claim(std::size_t piece, std::uint64_t place, std::uint64_t within, std::string why) {
    if (place < within || (place - within) % piece_bytes() != 0) return;
    claims_.push_back({piece, place - within, std::move(why)});
  }

  template <typename Use>
  void each_sector(std::size_t piece, Use use) const {
    Bytes bytes(kPiece);
    for (std::uint64_t at = 0; at < piece_bytes(); at += kPiece) {
      if (known_zero(*loose_[piece], intersect({at, kPiece}, {0, piece_bytes()}))) continue;
      const std::size_t got = loose_[piece]->read(at, bytes).length;
      for (std::size_t in = 0; in + kSector <= got; in += kSector)
        use(at + in, ByteView(bytes).subspan(in, kSector));
    }
  }

  void boot_sectors_of(std::size_t piece) {
    std::set<std::uint64_t> seen;  // within the piece
    each_sector(piece, [&](std::uint64_t within, ByteView sector) {
      const std::uint8_t jump = u8(sector, 0);
      if ((jump != 0xEB && jump != 0xE9) || !has_boot_mark(sector)) return;
      const auto geometry = parse_boot_sector(sector);
      if (!geometry) return;
      const auto found = volume_start(rows_, known_->size(), geometry->volume_bytes,
                                      std::uint64_t{le32(sector, 28)} * geometry->sector_bytes);
      if (!found) return;
      const std::uint64_t start = *found;
      // FAT32 keeps a spare: the second of two is that, and so is one that fits only its place.
      const std::uint64_t spare_at = geometry->width == Width::fat32
                                         ? std::uint64_t{le16(sector, 50)} * geometry->sector_bytes
                                         : 0;
      const bool fits_first = start >= within && (start - within) % piece_bytes() == 0;
      const bool is_spare =
          spare_at != 0 && (seen.contains(within - std::min(within, spare_at)) || !fits_first);
      seen.insert(within);
      add_volume(volumes_, start, *geometry);
      claim(piece, is_spare ? start + spare_at : start, within,
            fmt::format("it holds the boot sector of the FAT volume at byte {}", start));
    });
  }

  // The cluster a folder says it begins in; 0 when this is no start of a folder.
  static std::uint32_t folder_cluster(ByteView sector, Width width) {
    constexpr std::size_t kEntry = 32;
    constexpr std::uint8_t kIsFolder = 0x10;
    if (!has_text(sector, 0, ".          ") || !has_text(sector, kEntry, "..         ") ||
        (u8(sector, 11) & kIsFolder) == 0 || (u8(sector, kEntry + 11) & kIsFolder) == 0)
      return 0;
    const std::uint32_t high = width == Width::fat32 ? le16(sector, 20) : 0;
    return high << 16 | le16(sector, 26);
  }

  void folders_of(std::size_t piece) {
    each_sector(piece, [&](std::uint64_t within, ByteView sector) {
      if (u8(sector, 0) != '.') return;
      for (const Volume& volume : volumes_) {
        const std::uint32_t cluster = folder_cluster(sector, volume.geometry.width);
        if (!volume.geometry.valid_cluster(cluster)) continue;
        heads_.emplace(volume.start, cluster);
        claim(piece, volume.start + volume.geometry.cluster_offset(cluster), within,
              fmt::format("it holds a folder that says it begins in cluster {} of the FAT volume "
                          "at byte {}",
                          cluster, volume.start));
      }
    });
  }

  bool is_folder(const Volume& volume, std::uint32_t cluster) const {
    if (heads_.contains({volume.start, cluster})) return true;
    Bytes sector(kSector);
    const ReadResult got =
        known_->read(volume.start + volume.geometry.cluster_offset(cluster), sector);
    return got.length == sector.size() && got.unreadable.empty() && u8(sector, 0) == '.' &&
           folder_cluster(sector, volume.geometry.width) == cluster;
  }

  // How many folders an entry of this sector leads to; 0 where one leads nowhere.
  std::size_t folders_in(const Volume& volume, ByteView sector) const {
    constexpr std::size_t kEntry = 32;
    constexpr std::uint8_t kIsFolder = 0x10, kLongName = 0x0F, kDeleted = 0xE5;
    std::size_t folders = 0;
    for (std::size_t at = 0; at + kEntry <= sector.size(); at += kEntry) {
      const std::uint8_t first = u8(sector, at), attributes = u8(sector, at + 11);
      if (first == 0) break;
      if (first == kDeleted || attributes == kLongName || (attributes & kIsFolder) == 0) continue;
      const std::uint32_t high = volume.geometry.width == Width::fat32 ? le16(sector, at + 20) : 0;
      const std::uint32_t cluster = high << 16 | le16(sector, at + 26);
      if (!volume.geometry.valid_cluster(cluster) || !is_folder(volume, cluster)) return 0;
      ++folders;
    }
    return folders;
  }

  // The root says nothing of itself: its place is known, and its folders say where they begin.
  void root_of(const Volume& volume) {
    constexpr std::size_t kMinFolders = 2;
    const std::uint64_t place =
        volume.start + (volume.geometry.width == Width::fat32
                            ? volume.geometry.cluster_offset(volume.geometry.root_cluster)
                            : volume.geometry.root_offset);
    const std::uint64_t within = place % piece_bytes();
    for (std::size_t piece = 0; piece < loose_.size(); ++piece) {
      context_.check_cancelled();
      Bytes sector(kSector);
      if (loose_[piece]->read(within, sector).length < sector.size()) continue;
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
  static std::optional<std::uint64_t> table_sector(ByteView sector, Width width) {
    const std::size_t bytes = width == Width::fat32 ? 4 : 2;
    std::map<std::uint64_t, std::size_t> votes;
    const std::size_t count = sector.size() / bytes;
    std::size_t used = 0;
    for (std::size_t i = 0; i < count; ++i) {
      const std::uint64_t value =
          bytes == 4 ? le32(sector, i * 4) & 0x0FFFFFFF : le16(sector, i * 2);
      if (value == 0) continue;
      ++used;
      if (value > i && (value - 1 - i) % count == 0) ++votes[(value - 1 - i) / count];
    }
    const auto best =
        std::max_element(votes.begin(), votes.end(),
                         [](const auto& a, const auto& b) { return a.second < b.second; });
    if (best == votes.end() || best->second < kEnoughEntries || best->second * 2 < used)
      return std::nullopt;
    return best->first;
  }

  void tables_of(std::size_t piece) {
    for (const Volume& volume : volumes_) {
      if (volume.geometry.width == Width::fat12) continue;
      // A sector may be of one copy of the table or of the other: a piece is placed when only one
      // of both fits a piece's border, or both lie in the same piece.
      std::map<std::uint64_t, std::size_t> fits;
      each_sector(piece, [&](std::uint64_t within, ByteView sector) {
        const auto number = table_sector(sector, volume.geometry.width);
        if (!number || *number * kSector >= volume.geometry.table_bytes) return;
        for (std::uint32_t copy = 0; copy < volume.geometry.table_count; ++copy) {
          const std::uint64_t place = volume.start + volume.geometry.table_offset +
                                      copy * volume.geometry.table_bytes + *number * kSector;
          if (place >= within && (place - within) % piece_bytes() == 0) ++fits[place - within];
        }
      });
      if (fits.size() == 1)
        claims_.push_back(
            {piece, fits.begin()->first,
             fmt::format("it holds {} sectors of the table of the FAT volume at byte {}",
                         fits.begin()->second, volume.start)});
    }
  }

  const SourcePtr& known_;
  const std::vector<SourcePtr>& loose_;
  const Context& context_;
  std::vector<VolumeRow> rows_;  // of the partition table, when it has its place
  std::vector<Volume> volumes_;
  std::set<std::pair<std::uint64_t, std::uint32_t>> heads_;  // folders: volume's start, cluster
  std::vector<PlaceClaim> claims_;
};

}  // namespace

std::vector<PlaceClaim> places(const SourcePtr& known, const std::vector<SourcePtr>& loose,
                               const Context& context) {
  if (loose.empty()) return {};
  return Search(known, loose, context).run();
}

}  // namespace lantern::fat
