#include "container/qcow/rebuild.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/store.h"
#include "container/qcow/layout.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

using namespace qcow;

// A file up to this many clusters is looked at whole when it is opened.
constexpr std::uint64_t kMaxClusters = 1u << 20;
constexpr std::size_t kPiece = 64u << 10;
constexpr std::uint64_t kSmallCluster = 4096;
constexpr std::uint64_t kLevel1Within = 256u << 20;  // bytes of the file
constexpr std::uint64_t kLevel1Searched = 4096;      // clusters
constexpr std::uint64_t kLeadsNowhere = 1;           // an entry no table can have

std::size_t entry_bytes(const Qcow2Header& header) {
  return header.extended() ? 16 : 8;
}

std::uint64_t level2_bytes(const Qcow2Header& header) {
  return header.cluster_bytes() / entry_bytes(header) * header.cluster_bytes();
}

// Whether an entry leads to a whole cluster of the file, as one that is in use does.
bool leads_to_cluster(std::uint64_t entry, std::uint64_t cluster_bytes, std::uint64_t file_bytes) {
  const std::uint64_t offset = entry & kOffsetMask;
  return (entry & ~(kOffsetMask | kCopied | 1)) == 0 && offset != 0 &&
         offset % cluster_bytes == 0 && offset < file_bytes;
}

// Whether a cluster is a level 2 table with something in it.
bool is_level2(const ByteSource& file, std::uint64_t at, const Qcow2Header& header) {
  const std::uint64_t cluster_bytes = header.cluster_bytes();
  Bytes table(static_cast<std::size_t>(cluster_bytes));
  // The first sector alone tells most clusters of data.
  for (const std::size_t length : {kSector, table.size()}) {
    const std::size_t got = file.read(at, std::span(table).first(length)).length;
    if (got < length) return false;
    bool any = false;
    for (std::size_t i = 0; i < length; i += entry_bytes(header)) {
      const std::uint64_t entry = be64(table, i);
      if (entry <= 1) continue;
      const bool packed = (entry & kPacked) != 0 && (entry & kCopied) == 0 &&
                          (entry & ((1ull << (62 - (header.cluster_bits - 8))) - 1)) < file.size();
      if (!packed &&
          !((entry & kCopied) != 0 && leads_to_cluster(entry, cluster_bytes, file.size())))
        return false;
      any = true;
    }
    if (length == table.size()) return any;
  }
  return false;
}

class Level1Check {
 public:
  Level1Check(const SourcePtr& file, const Qcow2Header& header, const Context& context)
      : file_(file),
        header_(header),
        context_(context),
        file_bytes_(file->size()),
        clusters_(divide_up(file_bytes_, header.cluster_bytes())),
        used_(static_cast<std::size_t>(clusters_)),
        level1_(static_cast<std::size_t>(header.level1_entries * 8)) {
    level1_.resize(file->read(header.level1_offset, level1_).length / 8 * 8);
  }

  void mark_used(const std::vector<Qcow2Snapshot>& snapshots) {
    mark(0, 1);
    mark(header_.level1_offset, header_.level1_entries * 8);
    mark_level1(level1_);
    mark_bitmaps();
    for (const Qcow2Snapshot& snapshot : snapshots) {
      mark(snapshot.place.offset, snapshot.place.length);
      if (snapshot.level1_entries > clusters_) continue;
      Bytes table(static_cast<std::size_t>(snapshot.level1_entries * 8));
      table.resize(file_->read(snapshot.level1_offset, table).length / 8 * 8);
      mark(snapshot.level1_offset, table.size());
      mark_level1(table);
    }
  }

  // The reference counts themselves, and clusters that they say nobody uses.
  void mark_counts() {
    const std::uint64_t cluster_bytes = header_.cluster_bytes();
    if (header_.counts_clusters > clusters_ || header_.counts_offset >= file_bytes_) return;
    mark(header_.counts_offset, header_.counts_clusters * cluster_bytes);
    Bytes table(static_cast<std::size_t>(header_.counts_clusters * cluster_bytes));
    table.resize(file_->read(header_.counts_offset, table).length / 8 * 8);
    const std::uint64_t counts_of_block = cluster_bytes * 8 / header_.count_bits;
    Bytes block(static_cast<std::size_t>(cluster_bytes));
    for (std::size_t i = 0; i * 8 < table.size() && i * counts_of_block < clusters_; ++i) {
      const std::uint64_t at = be64(table, i * 8);
      if (at == 0 || at % cluster_bytes != 0 || at >= file_bytes_) continue;
      mark(at, 1);
      file_->read(at, block);
      // A count is zero when all of its bits are: in bytes, or in parts of one.
      for (std::uint64_t n = 0; n < counts_of_block; ++n) {
        const std::uint64_t cluster = i * counts_of_block + n;
        if (cluster >= clusters_) break;
        const std::uint64_t bit = n * header_.count_bits;
        std::uint64_t value = 0;
        for (std::uint64_t b = 0; b < header_.count_bits; b += 8)
          value |= u8(block, static_cast<std::size_t>((bit + b) / 8));
        if (header_.count_bits < 8) value = value >> (bit % 8) & ((1u << header_.count_bits) - 1);
        if (value == 0) used_[static_cast<std::size_t>(cluster)] = true;
      }
    }
  }

  // Whether the counts say of the header that it is in use: else they were lost.
  bool counts_are_kept() const {
    Bytes block(8), count(8);
    if (header_.dirty() || file_->read(header_.counts_offset, block).length < 8) return false;
    return file_->read(be64(block, 0), count).length == 8 && !all_zero(count);
  }

  // Runs of the file that are spoken of.
  std::vector<Range> used() const {
    std::vector<Range> ranges;
    const std::uint64_t cluster_bytes = header_.cluster_bytes();
    for (std::uint64_t i = 0; i < clusters_; ++i) {
      if (!used_[static_cast<std::size_t>(i)]) continue;
      if (!ranges.empty() && ranges.back().end() == i * cluster_bytes)
        ranges.back().length += cluster_bytes;
      else
        ranges.push_back({i * cluster_bytes, cluster_bytes});
    }
    return ranges;
  }

  // Where the level 2 table of each level 1 entry lies; 0: nowhere.
  std::vector<std::uint64_t> level2_places() const {
    std::vector<std::uint64_t> places;
    for (std::size_t i = 0; i + 8 <= level1_.size(); i += 8) {
      const std::uint64_t entry = be64(level1_, i);
      places.push_back(
          leads_to_cluster(entry, header_.cluster_bytes(), file_bytes_) ? entry & kOffsetMask : 0);
    }
    return places;
  }

  std::vector<LooseUnit> loose() const {
    std::vector<LooseUnit> units;
    for (std::uint64_t i = 1; i < clusters_; ++i) {
      if (used_[static_cast<std::size_t>(i)]) continue;
      if (i % 1024 == 0) context_.check_cancelled();
      const std::uint64_t at = i * header_.cluster_bytes();
      if (is_level2(*file_, at, header_)) units.push_back(unit_of(at));
    }
    return units;
  }

  // Places of the disk whose level 1 entry is empty or cannot be.
  std::vector<Range> open() const {
    std::vector<Range> ranges;
    const std::uint64_t bytes = level2_bytes(header_);
    for (std::uint64_t i = 0; i < header_.level1_entries; ++i) {
      const bool here = (i + 1) * 8 <= level1_.size();
      const std::uint64_t entry = here ? be64(level1_, static_cast<std::size_t>(i * 8)) : 0;
      if (i * bytes < header_.disk_bytes &&
          !leads_to_cluster(entry, header_.cluster_bytes(), file_bytes_))
        ranges.push_back({i * bytes, bytes});
    }
    return ranges;
  }

  SourcePtr with(const std::vector<Range>& open, const Placed& placed,
                 const std::vector<LooseUnit>& units) const {
    Bytes table = level1_;
    table.resize(static_cast<std::size_t>(header_.level1_entries * 8));
    const bool all_placed = placed.units.size() == units.size();
    for (const Range& range : open) {
      const auto at = static_cast<std::size_t>(range.offset / level2_bytes(header_) * 8);
      const auto found = placed.units.find(range.offset);
      if (found != placed.units.end())
        store_be64(table, at, units[found->second].file.offset | kCopied);
      else if (!all_placed)
        store_be64(table, at, kLeadsNowhere);
    }
    std::vector<Piece> pieces;
    const std::uint64_t end = header_.level1_offset + table.size();
    pieces.push_back({ExtentKind::direct, header_.level1_offset, file_, 0});
    pieces.push_back({ExtentKind::direct, table.size(), make_memory_source(std::move(table)), 0});
    if (end < file_bytes_) pieces.push_back({ExtentKind::direct, file_bytes_ - end, file_, end});
    return make_joined(std::move(pieces));
  }

 private:
  void mark(std::uint64_t at, std::uint64_t length) {
    const std::uint64_t first = at / header_.cluster_bytes();
    const std::uint64_t last =
        (at + std::max<std::uint64_t>(length, 1) - 1) / header_.cluster_bytes();
    for (std::uint64_t i = first; i <= last && i < clusters_; ++i)
      used_[static_cast<std::size_t>(i)] = true;
  }

  // Bitmaps of changed places lie in clusters of their own: a list, tables, and what those lead to.
  void mark_bitmaps() {
    constexpr std::size_t kFixed = 24;
    if (header_.bitmaps.empty() || header_.bitmaps.offset >= file_bytes_) return;
    mark(header_.bitmaps.offset, header_.bitmaps.length);
    std::uint64_t at = header_.bitmaps.offset;
    for (std::uint32_t i = 0; i < header_.bitmap_count && at < header_.bitmaps.end(); ++i) {
      Bytes entry(kFixed);
      if (file_->read(at, entry).length < entry.size()) return;
      const std::uint64_t table_at = be64(entry, 0);
      const std::uint64_t table_bytes = std::uint64_t{be32(entry, 8)} * 8;
      at += (kFixed + be16(entry, 18) + be32(entry, 20) + 7) / 8 * 8;
      if (table_at >= file_bytes_ || table_bytes > file_bytes_) continue;
      mark(table_at, table_bytes);
      Bytes table(static_cast<std::size_t>(table_bytes));
      table.resize(file_->read(table_at, table).length / 8 * 8);
      for (std::size_t t = 0; t < table.size(); t += 8)
        if ((be64(table, t) & kOffsetMask) != 0) mark(be64(table, t) & kOffsetMask, 1);
    }
  }

  void mark_level1(const Bytes& table) {
    Bytes level2(static_cast<std::size_t>(header_.cluster_bytes()));
    for (std::size_t i = 0; i + 8 <= table.size(); i += 8) {
      const std::uint64_t entry = be64(table, i);
      if (!leads_to_cluster(entry, header_.cluster_bytes(), file_bytes_)) continue;
      mark(entry & kOffsetMask, 1);
      level2.resize(file_->read(entry & kOffsetMask, level2).length);
      for (std::size_t at = 0; at + 8 <= level2.size(); at += entry_bytes(header_))
        if (const std::uint64_t own = be64(level2, at); own != 0) mark_entry(own);
      level2.resize(static_cast<std::size_t>(header_.cluster_bytes()));
    }
  }

  void mark_entry(std::uint64_t entry) {
    if ((entry & kPacked) != 0) {
      const unsigned offset_bits = 62 - (header_.cluster_bits - 8);
      const std::uint64_t offset = entry & ((1ull << offset_bits) - 1);
      mark(offset, (((entry & (kPacked - 1)) >> offset_bits) + 1) * kSector - offset % kSector);
    } else if (leads_to_cluster(entry, header_.cluster_bytes(), file_bytes_)) {
      mark(entry & kOffsetMask, 1);
    }
  }

  LooseUnit unit_of(std::uint64_t at) const {
    LooseUnit unit;
    unit.file = {at, header_.cluster_bytes()};
    Bytes table(static_cast<std::size_t>(header_.cluster_bytes()));
    file_->read(at, table);
    const std::size_t step = entry_bytes(header_);
    for (std::size_t i = 0; i < table.size(); i += step) {
      const std::uint64_t entry = be64(table, i);
      if (!leads_to_cluster(entry, header_.cluster_bytes(), file_bytes_)) continue;
      const std::uint64_t place = entry & kOffsetMask;
      const std::uint64_t within = i / step * header_.cluster_bytes();
      if (!unit.parts.empty() && unit.parts.back().within + unit.parts.back().length == within &&
          unit.parts.back().place + unit.parts.back().length == place)
        unit.parts.back().length += header_.cluster_bytes();
      else
        unit.parts.push_back({within, place, header_.cluster_bytes()});
    }
    return unit;
  }

  const SourcePtr& file_;
  const Qcow2Header& header_;
  const Context& context_;
  std::uint64_t file_bytes_;  // asked for once: every entry is held against it
  std::uint64_t clusters_;
  std::vector<bool> used_;
  Bytes level1_;
};

// The level 1 table in a cluster, if it is one: entries (as many as count) that lead to level 2.
std::uint64_t level1_entries_at(const ByteSource& file, std::uint64_t at,
                                const Qcow2Header& header) {
  // The first sector alone tells most clusters of data.
  Bytes start(kSector);
  start.resize(file.read(at, start).length / 8 * 8);
  for (std::size_t i = 0; i < start.size(); i += 8) {
    const std::uint64_t entry = be64(start, i);
    if (entry != 0 && ((entry & kCopied) == 0 || (entry & 1) != 0 ||
                       !leads_to_cluster(entry, header.cluster_bytes(), file.size())))
      return 0;
  }
  Bytes table(static_cast<std::size_t>(header.cluster_bytes()));
  table.resize(file.read(at, table).length / 8 * 8);
  std::uint64_t entries = 0;
  for (std::size_t i = 0; i < table.size(); i += 8) {
    const std::uint64_t entry = be64(table, i);
    if (entry == 0) continue;
    if ((entry & kCopied) == 0 || (entry & 1) != 0 ||
        !leads_to_cluster(entry, header.cluster_bytes(), file.size()) ||
        !is_level2(file, entry & kOffsetMask, header))
      return 0;
    entries = i / 8 + 1;
  }
  return entries;
}

// Bytes of the file that the tables below a level 1 table speak of.
std::uint64_t bytes_explained(const ByteSource& file, const Qcow2Header& header) {
  std::uint64_t bytes = 0;
  Bytes level1(static_cast<std::size_t>(header.level1_entries * 8));
  level1.resize(file.read(header.level1_offset, level1).length / 8 * 8);
  Bytes table(static_cast<std::size_t>(header.cluster_bytes()));
  for (std::size_t i = 0; i < level1.size(); i += 8) {
    if (be64(level1, i) == 0) continue;
    file.read(be64(level1, i) & kOffsetMask, table);
    for (std::size_t at = 0; at < table.size(); at += 8)
      if (be64(table, at) > 1) bytes += header.cluster_bytes();
  }
  return bytes;
}

// Where the disk ends by the last level 2 table, and whether clusters are packed by zstd.
void learn_from_last_table(const ByteSource& file, Qcow2Header& header) {
  Bytes last(8);
  file.read(header.level1_offset + (header.level1_entries - 1) * 8, last);
  Bytes table(static_cast<std::size_t>(header.cluster_bytes()));
  file.read(be64(last, 0) & kOffsetMask, table);
  std::uint64_t end = 0;
  for (std::size_t i = 0; i < table.size(); i += 8) {
    const std::uint64_t entry = be64(table, i);
    if (entry != 0) end = (i / 8 + 1) * header.cluster_bytes();
    if ((entry & kPacked) == 0) continue;
    Bytes packed(4);
    file.read(entry & ((1ull << (62 - (header.cluster_bits - 8))) - 1), packed);
    constexpr std::uint32_t kZstdFrame = 0xFD2FB528;  // RFC 8878, 3.1.1
    if (le32(packed, 0) == kZstdFrame) header.packing = 1;
  }
  header.disk_bytes = (header.level1_entries - 1) * level2_bytes(header) + end;
}

}  // namespace

std::optional<Qcow2Header> guess_qcow2_header(const ByteSource& file, const Context& context) {
  // The size that explains most of the file is the right one: another's tables fit by chance alone.
  std::optional<Qcow2Header> best;
  std::uint64_t most = 0;
  for (std::uint32_t bits = kMinClusterBits; bits <= kMaxClusterBits; ++bits) {
    Qcow2Header header;
    header.version = 3;
    header.cluster_bits = bits;
    const std::uint64_t clusters =
        std::min(std::min(file.size(), kLevel1Within) / header.cluster_bytes(), kLevel1Searched);
    // Small clusters are looked at many to a read.
    const bool small = header.cluster_bytes() <= kSmallCluster;
    Bytes piece(small ? kPiece : kSector);
    std::uint64_t piece_at = ~std::uint64_t{0};
    for (std::uint64_t i = 1; i < clusters; ++i) {
      context.check_cancelled();
      // One entry that leads somewhere is looked for before more is read.
      const std::uint64_t at = i * header.cluster_bytes();
      if (piece_at == ~std::uint64_t{0} || at < piece_at ||
          at - piece_at + kSector > piece.size()) {
        piece_at = at;
        std::fill(piece.begin(), piece.end(), std::byte{0});
        file.read(piece_at, piece);
      }
      const ByteView start =
          ByteView(piece).subspan(static_cast<std::size_t>(at - piece_at), kSector);
      if ((be64(start, 0) & kCopied) == 0 && !(be64(start, 0) == 0 && !all_zero(start))) continue;
      header.level1_offset = i * header.cluster_bytes();
      header.level1_entries = level1_entries_at(file, header.level1_offset, header);
      if (header.level1_entries == 0) continue;
      const std::uint64_t bytes = bytes_explained(file, header);
      if (bytes <= most) continue;
      most = bytes;
      best = header;
    }
  }
  if (best) learn_from_last_table(file, *best);
  return best;
}

SourcePtr mend_level1(const SourcePtr& file, const Qcow2Header& header,
                      const std::vector<Qcow2Snapshot>& snapshots,
                      std::shared_ptr<const BlockMap> map, const Surroundings& around,
                      const Context& context) {
  if (file->size() / header.cluster_bytes() > kMaxClusters || header.has_data_file() ||
      header.level1_entries > kMaxClusters || header.level1_offset >= file->size() ||
      header.disk_bytes == 0)
    return file;
  Level1Check check(file, header, context);
  Placing placing;
  placing.open = check.open();
  if (placing.open.empty()) return file;
  check.mark_used(snapshots);
  // A first table that went elsewhere when the disk was made larger still looks like a second one.
  if (check.counts_are_kept()) check.mark_counts();
  placing.units = check.loose();
  if (placing.units.empty()) return file;
  const std::vector<LooseUnit> units = placing.units;
  const std::vector<Range> open = placing.open;
  placing.format = "qcow2";
  placing.disk_bytes = header.disk_bytes;
  placing.unit_bytes = level2_bytes(header);
  const Placed placed =
      place_by_evidence(file, std::move(map), std::move(placing), around, context);
  return check.with(open, placed, units);
}

std::shared_ptr<const BlockMap> mend_level2(const SourcePtr& file, const Qcow2Header& header,
                                            const std::vector<Qcow2Snapshot>& snapshots,
                                            std::shared_ptr<const BlockMap> map,
                                            const Surroundings& around, const Context& context) {
  // A dirty disk's reference counts are not to be believed.
  if (file->size() / header.cluster_bytes() > kMaxClusters || header.has_data_file() ||
      header.level1_entries > kMaxClusters || header.level1_offset >= file->size() ||
      header.dirty())
    return map;
  Level1Check check(file, header, context);
  check.mark_used(snapshots);
  check.mark_counts();
  OneTable table;
  table.format = "qcow2";
  table.disk_bytes = header.disk_bytes;
  table.block_bytes = header.cluster_bytes();
  table.blocks = {header.cluster_bytes(),
                  file->size() - std::min(file->size(), header.cluster_bytes())};
  table.taken = check.used();
  table.least_loose = 32;
  table.entry = [places = check.level2_places(), step = entry_bytes(header),
                 of_table = header.cluster_bytes() / entry_bytes(header)](std::uint64_t cluster) {
    const std::uint64_t index = cluster / of_table;
    if (index >= places.size() || places[static_cast<std::size_t>(index)] == 0) return Range{};
    return Range{places[static_cast<std::size_t>(index)] + cluster % of_table * step, step};
  };
  if (entry_bytes(header) == kEntryBytes)
    table.entry_for = [](std::optional<std::uint64_t> place) {
      Bytes entry(kEntryBytes);
      store_be64(entry, 0, place ? *place | kCopied : 0);
      return entry;
    };
  return mend_block_table(file, std::move(map), table, around, context);
}

}  // namespace lantern
