#include "filesystem/ntfs/places.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "filesystem/ntfs/boot.h"
#include "filesystem/ntfs/record.h"
#include "filesystem/ntfs/volume.h"
#include "lantern/sources.h"
#include "lantern/volume_table.h"
#include "volume/table_places.h"

namespace lantern::ntfs {
namespace {

constexpr std::size_t kMaxVolumes = 64;
constexpr std::size_t kMaxRecords = 4u << 20;
// How many times the votes of the next best place the best one must have.
constexpr std::size_t kOutvoted = 8;

struct Volume {
  std::uint64_t start = 0;  // bytes of the disk
  Geometry geometry;
  std::vector<Run> table;  // of the file table; none: not known
};

struct FoundRecord {
  std::size_t piece = 0;
  std::uint64_t within = 0;  // bytes of the piece
  std::uint64_t number = 0;
};

struct FoundIndex {
  std::size_t piece = 0;
  std::uint64_t within = 0;
  std::uint64_t folder = 0;  // record
  std::uint64_t vcn = 0;
};

// Byte of the volume at which a byte of a stream lies.
std::optional<std::uint64_t> place_in(const std::vector<Run>& runs, std::uint64_t offset,
                                      std::uint64_t cluster_bytes) {
  const std::uint64_t vcn = offset / cluster_bytes;
  for (const Run& run : runs)
    if (!run.hole && vcn >= run.vcn && vcn < run.end())
      return (run.lcn + vcn - run.vcn) * cluster_bytes + offset % cluster_bytes;
  return std::nullopt;
}

std::vector<Run> runs_of(const Record& record, std::uint32_t type, const Geometry& geometry) {
  std::vector<Run> runs;
  for (const Attribute& attribute : record.attributes)
    if (attribute.type == type && !attribute.resident && (type != kData || attribute.name.empty()))
      add_runs(slice(record.bytes, static_cast<std::size_t>(attribute.runs.offset),
                     static_cast<std::size_t>(attribute.runs.length)),
               attribute.first_vcn, geometry.cluster_count(), runs);
  return runs;
}

class Search final : public PlaceFinder {
 public:
  Search(const LoosePieces& loose, const Context& context) : loose_(loose), context_(context) {}

  void look(std::size_t piece, std::uint64_t within, ByteView sector) override {
    const std::uint32_t mark = le32(sector, 0);
    if (mark == 0x454C4946) record_at(piece, within, sector);                    // "FILE"
    if (mark == 0x58444E49) index_at(piece, within, sector);                     // "INDX"
    if (mark == 0x44524352) pages_.push_back({piece, within, le64(sector, 8)});  // "RCRD"
    if (has_text(sector, 3, "NTFS    "))
      if (const auto geometry = parse_boot_sector(sector))
        boots_.push_back({piece, within, std::uint64_t{le32(sector, 0x1C)} * kSector, *geometry});
  }

  std::vector<PlaceClaim> claims(const SourcePtr& known, Expectations& /*expected*/) override {
    known_ = known;
    volumes_.clear();
    votes_.clear();
    rows_ = read_volume_table(known, std::nullopt, known_formats(), context_).rows;
    for (const VolumeRow& row : rows_) known_boot_sector(row.range.offset);
    known_boot_sector(0);
    for (const FoundBoot& boot : boots_) place_boot(boot);
    for (Volume& volume : volumes_) {
      find_table(volume);
      if (volume.table.empty()) continue;
      records_of(volume);
      indexes_of(volume);
      log_of(volume);
    }
    return decide();
  }

 private:
  struct FoundBoot {
    std::size_t piece = 0;
    std::uint64_t within = 0, said = 0;  // bytes; `said`: where the volume begins
    Geometry geometry;
  };

  std::uint64_t piece_bytes() const { return loose_.piece_bytes; }

  // A vote for the place of a piece, by what lies `within` it and belongs at `place`.
  void vote(std::size_t piece, std::uint64_t place, std::uint64_t within, const char* what,
            std::uint64_t start) {
    if (place < within || (place - within) % piece_bytes() != 0) return;
    Votes& votes = votes_[piece][place - within];
    ++votes.count;
    votes.what = what;
    votes.start = start;
  }

  std::vector<PlaceClaim> decide() const {
    std::vector<PlaceClaim> claims;
    for (const auto& [piece, places] : votes_) {
      std::uint64_t best = 0, best_count = 0, others = 0;
      for (const auto& [place, votes] : places)
        if (votes.count > best_count) {
          best = place;
          best_count = votes.count;
        }
      for (const auto& [place, votes] : places)
        if (place != best) others = std::max<std::uint64_t>(others, votes.count);
      // Records of an earlier volume, and copies that a log keeps, speak for other places.
      if (others > 0 && best_count < others * kOutvoted) continue;
      const Votes& votes = places.at(best);
      claims.push_back({piece, best,
                        fmt::format("it holds {} {} of the NTFS volume at byte {} that have their "
                                    "place there",
                                    votes.count, votes.what, votes.start)});
    }
    return claims;
  }

  void add_volume(std::uint64_t start, const Geometry& geometry) {
    const bool had = std::any_of(volumes_.begin(), volumes_.end(),
                                 [&](const Volume& v) { return v.start == start; });
    if (!had && volumes_.size() < kMaxVolumes) volumes_.push_back({start, geometry, {}});
  }

  void known_boot_sector(std::uint64_t at) {
    Bytes sector(kSector);
    const ReadResult got = known_->read(at, sector);
    if (got.length < sector.size() || !got.unreadable.empty()) return;
    if (const auto geometry = parse_boot_sector(sector)) add_volume(at, *geometry);
  }

  void place_boot(const FoundBoot& boot) {
    const auto start = volume_start(rows_, known_->size(), boot.geometry.volume_bytes, boot.said);
    if (!start) return;
    add_volume(*start, boot.geometry);
    // The copy stands behind the volume: that is told by what fits the borders of a piece.
    const auto fits = [&](std::uint64_t place) {
      return place >= boot.within && (place - boot.within) % piece_bytes() == 0;
    };
    const std::uint64_t behind = *start + boot.geometry.volume_bytes;
    if (fits(*start) != fits(behind))
      vote(boot.piece, fits(*start) ? *start : behind, boot.within, "boot sectors", *start);
  }

  void record_at(std::size_t piece, std::uint64_t within, ByteView sector) {
    if (records_.size() < kMaxRecords && le16(sector, 4) >= 0x30)
      records_.push_back({piece, within, le32(sector, 0x2C)});
  }

  void index_at(std::size_t piece, std::uint64_t within, ByteView sector) {
    constexpr std::size_t kNode = 0x18, kKey = 0x10;
    const std::size_t entry = kNode + le32(sector, kNode);
    if (entry + kKey + 8 > sector.size() || le16(sector, entry + 0x0A) == 0) return;
    indexes_.push_back(
        {piece, within, reference_at(sector, entry + kKey).record, le64(sector, 0x10)});
  }

  std::optional<Record> read_record(const ByteSource& source, std::uint64_t at,
                                    const Geometry& geometry) const {
    Bytes bytes(geometry.record_bytes);
    const ReadResult got = source.read(at, bytes);
    if (got.length < bytes.size() || !got.unreadable.empty()) return std::nullopt;
    auto record = parse_record(std::move(bytes));
    return record && record->in_use && !record->torn ? std::move(record) : std::nullopt;
  }

  // From its place, or from a loose piece.
  std::optional<Record> record_of(const Volume& volume, std::uint64_t number) const {
    const auto place = place_in(volume.table, number * volume.geometry.record_bytes,
                                volume.geometry.cluster_bytes);
    if (place)
      if (auto record = read_record(*known_, volume.start + *place, volume.geometry)) return record;
    for (const FoundRecord& found : records_)
      if (found.number == number)
        if (auto record = read_record(*loose_.bytes[found.piece], found.within, volume.geometry))
          return record;
    return std::nullopt;
  }

  // From its own record: one whose runs begin where the boot sector has the table.
  void find_table(Volume& volume) const {
    const auto take = [&](const std::optional<Record>& record) {
      if (!record) return false;
      auto runs = runs_of(*record, kData, volume.geometry);
      if (runs.empty() || runs.front().lcn != volume.geometry.table_cluster) return false;
      volume.table = std::move(runs);
      return true;
    };
    for (const std::uint64_t cluster :
         {volume.geometry.table_cluster, volume.geometry.mirror_cluster})
      if (take(read_record(*known_, volume.start + cluster * volume.geometry.cluster_bytes,
                           volume.geometry)))
        return;
    for (const FoundRecord& found : records_)
      if (found.number == 0 &&
          take(read_record(*loose_.bytes[found.piece], found.within, volume.geometry)))
        return;
  }

  void records_of(const Volume& volume) {
    constexpr std::uint64_t kMirrored = 4;
    for (const FoundRecord& found : records_) {
      const auto place = place_in(volume.table, found.number * volume.geometry.record_bytes,
                                  volume.geometry.cluster_bytes);
      if (!place) continue;
      // The first ones are there twice.
      if (found.number < kMirrored && is_mirror(found)) {
        vote(found.piece,
             volume.start + volume.geometry.mirror_cluster * volume.geometry.cluster_bytes +
                 found.number * volume.geometry.record_bytes,
             found.within, "records of the mirror", volume.start);
        continue;
      }
      vote(found.piece, volume.start + *place, found.within, "records", volume.start);
    }
  }

  // Whether no record of a larger number stands behind the first four.
  bool is_mirror(const FoundRecord& found) const {
    return std::none_of(records_.begin(), records_.end(), [&](const FoundRecord& other) {
      return other.piece == found.piece && other.number == 4 && other.within > found.within;
    });
  }

  void indexes_of(const Volume& volume) {
    std::map<std::uint64_t, std::vector<Run>> folders;
    for (const FoundIndex& found : indexes_) {
      context_.check_cancelled();
      auto folder = folders.find(found.folder);
      if (folder == folders.end()) {
        const auto record = record_of(volume, found.folder);
        folder =
            folders
                .emplace(found.folder, record && record->folder
                                           ? runs_of(*record, kIndexAllocation, volume.geometry)
                                           : std::vector<Run>())
                .first;
      }
      // Blocks are counted in clusters, or in sectors where those are larger.
      const std::uint64_t unit =
          std::min<std::uint64_t>(volume.geometry.cluster_bytes, volume.geometry.index_bytes);
      const std::uint64_t step = unit == volume.geometry.cluster_bytes ? unit : kSector;
      const auto place = place_in(folder->second, found.vcn * step, volume.geometry.cluster_bytes);
      if (place)
        vote(found.piece, volume.start + *place, found.within, "index blocks", volume.start);
    }
  }

  // The number of an entry of the log has its place in the log in its lower bits, in units of eight
  // bytes, and above them how often the log was gone through.
  void log_of(const Volume& volume) {
    constexpr std::uint64_t kLogRecord = 2, kPageBytes = 4096;
    const auto record = record_of(volume, kLogRecord);
    if (!record) return;
    const Attribute* const data = record->find(kData);
    const std::vector<Run> runs = runs_of(*record, kData, volume.geometry);
    if (data == nullptr || runs.empty() || data->size_bytes < kPageBytes) return;
    unsigned bits = 0;
    while (bits < 60 && (std::uint64_t{1} << bits) < data->size_bytes) ++bits;
    for (const FoundPage& page : pages_) {
      const std::uint64_t offset = (page.number << 3) & ((std::uint64_t{1} << bits) - 1);
      const auto place =
          place_in(runs, offset / kPageBytes * kPageBytes, volume.geometry.cluster_bytes);
      if (place && offset < data->size_bytes)
        vote(page.piece, volume.start + *place, page.within, "pages of the log", volume.start);
    }
  }

  struct Votes {
    std::size_t count = 0;
    const char* what = "";
    std::uint64_t start = 0;
  };
  struct FoundPage {
    std::size_t piece = 0;
    std::uint64_t within = 0, number = 0;
  };

  const LoosePieces& loose_;
  const Context& context_;
  SourcePtr known_;  // these are of what is known by now
  std::vector<VolumeRow> rows_;
  std::vector<Volume> volumes_;
  std::vector<FoundBoot> boots_;
  std::vector<FoundRecord> records_;
  std::vector<FoundIndex> indexes_;
  std::vector<FoundPage> pages_;
  std::map<std::size_t, std::map<std::uint64_t, Votes>> votes_;  // of pieces, for places
};

}  // namespace

std::unique_ptr<PlaceFinder> places(const LoosePieces& loose, const Context& context) {
  return std::make_unique<Search>(loose, context);
}

}  // namespace lantern::ntfs
