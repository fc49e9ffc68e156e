#include "container/mend.h"

#include <fmt/format.h>

#include <algorithm>
#include <functional>
#include <map>
#include <set>

#include "base/checked.h"
#include "lantern/sources.h"
#include "lantern/text.h"

namespace lantern {
namespace {

// A table up to this many blocks is looked at whole when the disk is opened.
constexpr std::uint64_t kMaxBlocks = 1u << 20;
constexpr std::size_t kMaxLoose = 65'536;
constexpr std::uint64_t kPiece = 64u << 10;
struct StoredBlock {
  std::uint64_t block = 0;
  Range file;
};

class TableCheck {
 public:
  TableCheck(const SourcePtr& file, const BlockMap& map, const OneTable& table,
             const Context& context)
      : file_(file), map_(map), table_(table), context_(context) {}

  // Fills `placing` when something is wrong.
  bool run(Placing& placing) {
    walk();
    std::sort(stored_.begin(), stored_.end(), [](const StoredBlock& a, const StoredBlock& b) {
      return a.file.offset < b.file.offset;
    });
    find_shared();
    find_loose(placing);
    if (bad_.empty() && (placing.units.size() < table_.least_loose || is_unfinished(placing))) {
      report_left_over(placing);
      return false;
    }
    placing.format = table_.format;
    placing.disk_bytes = table_.disk_bytes;
    placing.unit_bytes = table_.block_bytes;
    placing.complete = table_.complete;
    // Blank entries are in doubt only when blocks lie about that no bad entry accounts for.
    if (placing.units.size() > bad_.size() && placing.units.size() >= table_.least_loose)
      add_blank(placing.units.size());
    for (const std::uint64_t block : bad_)
      placing.open.push_back({block * table_.block_bytes, table_.block_bytes});
    return true;
  }

 private:
  // A writer takes room at the end of the file, lays the block, and enters it last: when the power
  // goes before that, one block without an entry is the last of the file.
  bool is_unfinished(const Placing& placing) const {
    return placing.units.size() == 1 && !stored_.empty() &&
           placing.units.front().file.offset >= stored_.back().file.end() &&
           placing.units.front().file.end() + slot_bytes() > table_.blocks.end();
  }

  void report_left_over(const Placing& placing) const {
    if (placing.units.empty()) return;
    context_.report(
        FindingCode::container_unplaced, Severity::note, placing.units.front().file,
        fmt::format("{}: {} of the file have no entry, the first at byte {}", table_.format,
                    counted(placing.units.size(), "block"), placing.units.front().file.offset),
        "so few are most often left by a crash; look at them with ::bytes");
  }

  std::uint64_t slot_bytes() const { return table_.lead_bytes + table_.block_bytes; }

  void walk() {
    map_.runs({0, std::min(table_.disk_bytes, map_.mapped_bytes())}, [&](const Run& run) {
      const std::uint64_t block = run.range.offset / table_.block_bytes;
      if (run.range.offset % table_.block_bytes != 0) return true;
      if (run.kind == Run::Kind::absent || run.kind == Run::Kind::lost)
        for (std::uint64_t b = block; b * table_.block_bytes < run.range.end(); ++b) {
          if (run.kind == Run::Kind::lost)
            bad_.insert(b);
          else if (!table_.entry(b).empty())
            absent_.push_back(b);
        }
      if (run.kind != Run::Kind::stored) return true;
      const bool inside = run.file_offset >= table_.blocks.offset + table_.lead_bytes &&
                          run.file_offset < table_.blocks.end();
      if (inside)
        stored_.push_back({block, {run.file_offset - table_.lead_bytes, slot_bytes()}});
      else
        bad_.insert(block);
      return true;
    });
  }

  // Blocks that lie in one place: at most one of them is right. It is the one whose entry lies in
  // a sector of the table that was not wiped, if there is just one such.
  void find_shared() {
    for (std::size_t from = 0; from < stored_.size();) {
      std::uint64_t end = stored_[from].file.end();
      std::size_t to = from + 1;
      while (to < stored_.size() && stored_[to].file.offset < end) {
        end = std::max(end, stored_[to].file.end());
        ++to;
      }
      if (to - from > 1)
        share({stored_.begin() + static_cast<std::ptrdiff_t>(from),
               stored_.begin() + static_cast<std::ptrdiff_t>(to)});
      from = to;
    }
  }

  void share(const std::vector<StoredBlock>& group) {
    const auto in_doubt = [&](const StoredBlock& b) { return in_blank_sector(b.block); };
    const bool decided = std::count_if(group.begin(), group.end(), std::not_fn(in_doubt)) == 1;
    for (const StoredBlock& one : group) {
      if (decided && !in_doubt(one)) continue;
      bad_.insert(one.block);
      if (!decided) shared_.insert(one.file.offset);
    }
    context_.report(
        FindingCode::container_shared, Severity::damage,
        {group.back().block * table_.block_bytes, table_.block_bytes},
        fmt::format("{}: {} blocks, {} and {} among them, are in one place of the file",
                    table_.format, group.size(), group.front().block, group.back().block),
        decided ? "the one whose entry was not wiped is right"
                : "all are treated as unreadable unless evidence decides");
  }

  bool is_blank(Range range) const {
    Bytes piece(kPiece);
    for (std::uint64_t at = range.offset; at < range.end(); at += kPiece) {
      if (known_zero(*file_, intersect({at, kPiece}, range))) continue;
      const std::size_t got = file_->read(at, piece).length;
      if (!all_zero(
              ByteView(piece).first(std::min(got, static_cast<std::size_t>(range.end() - at)))))
        return false;
    }
    return true;
  }

  void add_loose(std::uint64_t slot, Placing& placing) const {
    const Range data = intersect({slot + table_.lead_bytes, table_.block_bytes}, table_.blocks);
    if (data.empty() || placing.units.size() >= kMaxLoose || is_blank(data)) return;
    LooseUnit unit;
    unit.parts.push_back({0, data.offset, data.length});
    unit.file = {slot, data.end() - slot};
    placing.units.push_back(std::move(unit));
  }

  // What lies between the blocks that are spoken of, and where two are.
  void find_loose(Placing& placing) const {
    std::uint64_t at = table_.blocks.offset;
    const auto gap_until = [&](std::uint64_t to, bool last) {
      // The last block may be cut.
      while (at < to && (to - at >= slot_bytes() || (last && to - at > table_.lead_bytes))) {
        context_.check_cancelled();
        add_loose(at, placing);
        at += slot_bytes();
      }
    };
    std::vector<Range> used = table_.taken;
    for (const StoredBlock& block : stored_) used.push_back(block.file);
    std::sort(used.begin(), used.end(),
              [](const Range& a, const Range& b) { return a.offset < b.offset; });
    // An entry that points past the blocks of the file has no gap before it to be walked.
    for (const Range& range : used) {
      gap_until(std::min(range.offset, table_.blocks.end()), false);
      at = std::max(at, range.end());
    }
    gap_until(table_.blocks.end(), true);
    for (const std::uint64_t slot : shared_) add_loose(slot, placing);
  }

  // Whether the whole sector an entry lies in has one value: damage takes sectors, not entries.
  bool in_blank_sector(std::uint64_t block) {
    const Range entry = table_.entry(block);
    if (entry.empty()) return false;
    const std::uint64_t sector = entry.offset / kSector * kSector;
    if (sector != last_sector_) {
      last_sector_ = sector;
      Bytes bytes(kSector);
      const ReadResult got = file_->read(sector, bytes);
      const Range part = intersect({sector, kSector}, table_.whole);
      const ByteView view = ByteView(bytes).subspan(static_cast<std::size_t>(part.offset - sector),
                                                    static_cast<std::size_t>(part.length));
      last_blank_ =
          !got.unreadable.empty() ||
          std::all_of(view.begin(), view.end(), [&](std::byte b) { return b == view.front(); });
    }
    return last_blank_;
  }

  // Entries in wiped sectors of the table; when they are too few for what lies about, all of them.
  void add_blank(std::size_t loose) {
    const std::size_t before = bad_.size();
    for (const std::uint64_t block : absent_)
      if (in_blank_sector(block)) bad_.insert(block);
    if (bad_.size() - before < loose) bad_.insert(absent_.begin(), absent_.end());
  }

  const SourcePtr& file_;
  const BlockMap& map_;
  const OneTable& table_;
  const Context& context_;
  std::vector<StoredBlock> stored_;
  std::vector<std::uint64_t> absent_;
  std::set<std::uint64_t> bad_;     // blocks
  std::set<std::uint64_t> shared_;  // slots of the file
  std::uint64_t last_sector_ = ~0ull;
  bool last_blank_ = false;
};

}  // namespace

std::shared_ptr<const BlockMap> mend_block_table(const SourcePtr& file,
                                                 std::shared_ptr<const BlockMap> map,
                                                 const OneTable& table, const Surroundings& around,
                                                 const Context& context) {
  if (table.disk_bytes == 0 || map->mapped_bytes() == 0 ||
      divide_up(table.disk_bytes, table.block_bytes) > kMaxBlocks)
    return map;
  Placing placing;
  if (!TableCheck(file, *map, table, context).run(placing)) return map;
  const Placing asked = placing;
  const Placed placed =
      place_by_evidence(file, std::move(map), std::move(placing), around, context);
  for (const Range& open : asked.open) {
    const Range entry = table.entry(open.offset / table.block_bytes);
    if (!around.mended || !table.entry_for || entry.empty()) break;
    const auto unit = placed.units.find(open.offset);
    MendedEntry mended{
        open.offset, unit != placed.units.end(), placed.inferred.contains(open.offset), {}};
    const Bytes right = table.entry_for(
        mended.found ? std::optional(asked.units[unit->second].parts.front().place) : std::nullopt);
    mended.writes.emplace_back(entry.offset, right);
    if (table.to_copy != 0)
      mended.writes.emplace_back(entry.offset + static_cast<std::uint64_t>(table.to_copy), right);
    around.mended(mended);
  }
  return placed.map;
}

}  // namespace lantern
