#include "filesystem/ext/journal.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/checked.h"
#include "base/store.h"
#include "filesystem/ext/journal_log.h"

namespace lantern::ext {
namespace {

constexpr std::uint32_t kEscaped = 1;

// A run of transactions that follow one another in the log.
struct Follow {
  std::vector<JournalCopy> copies;                 // of transactions that were committed
  std::map<std::uint64_t, std::uint32_t> revoked;  // block: by which sequence last
  std::uint32_t committed_from = 0;
  std::uint32_t committed_to = 0;  // one past the last; equal: none
  std::uint64_t begin = 0;         // in the log
  std::uint64_t end = 0;           // behind the last commit
  std::vector<std::uint64_t> visited;
};

// Follows the log from `index`. `expected`: the sequence that must stand there. `strict`: stops at
// a block whose checksum is wrong, as a mount does; else such copies alone are left out.
Follow follow(const Volume& volume, const JournalLog& log, std::uint64_t index,
              std::uint32_t expected, bool strict) {
  Follow result;
  result.committed_from = result.committed_to = expected;
  result.begin = result.end = index;
  std::vector<JournalCopy> pending;
  std::map<std::uint64_t, std::uint32_t> pending_revoked;
  Bytes block(volume.super.block_bytes);
  Bytes data(volume.super.block_bytes);
  for (std::uint64_t walked = 0; walked < log.count(); ++walked) {
    if (!log.read(index, block) || be32(block, 0) != kJournalMark || be32(block, 8) != expected)
      break;
    volume.context.check_cancelled();
    result.visited.push_back(index);
    const std::uint32_t kind = be32(block, 4);
    if (kind == kJournalTags) {
      bool good = true;
      for (const JournalTag& tag : log.tags_of(block)) {
        index = log.next(index);
        ++walked;
        result.visited.push_back(index);
        if (walked >= log.count()) return result;
        const bool fits = log.read(index, data) && log.fits(tag, expected, data);
        if (fits && volume.valid_block(tag.block))
          pending.push_back({tag.block, log.place(index), expected, (tag.flags & kEscaped) != 0});
        else if (!fits)
          good = false;
      }
      if (!good && strict) break;
    } else if (kind == kJournalRevoke) {
      for (const std::uint64_t revoked : log.revoked_by(block)) pending_revoked[revoked] = expected;
    } else if (kind == kJournalCommit) {
      result.copies.insert(result.copies.end(), pending.begin(), pending.end());
      for (const auto& [revoked, by] : pending_revoked) result.revoked[revoked] = by;
      pending.clear();
      pending_revoked.clear();
      result.committed_to = ++expected;
    } else {
      break;
    }
    index = log.next(index);
    if (kind == kJournalCommit) result.end = index;
  }
  // The copies of a transaction whose end was written over are copies all the same.
  if (!strict) result.copies.insert(result.copies.end(), pending.begin(), pending.end());
  return result;
}

// Whether nothing was committed between two runs of the log. The kernel counts a session's end and
// the next one's start too, and none that did nothing between them can be mistaken for one that
// did.
bool joined(const Follow& earlier, const Follow& later) {
  if (earlier.committed_to <= earlier.committed_from ||
      earlier.committed_from >= later.committed_from)
    return false;
  if (earlier.committed_to >= later.committed_from || earlier.end == later.begin) return true;
  const std::uint32_t step = later.committed_from - (earlier.committed_to - 1);
  return step == 2 || step == 3 || step == 5;
}

// From the newest run back as far as one joins another.
std::uint32_t unbroken_from(const std::vector<Follow>& runs) {
  const Follow* last = nullptr;
  for (const Follow& run : runs)
    if (run.committed_to > run.committed_from &&
        (last == nullptr || run.committed_to > last->committed_to))
      last = &run;
  if (last == nullptr) return 0xFFFFFFFF;
  for (;;) {
    const Follow* before = nullptr;
    for (const Follow& run : runs)
      if (joined(run, *last) && (before == nullptr || run.committed_to > before->committed_to))
        before = &run;
    if (before == nullptr) return last->committed_from;
    last = before;
  }
}

// The volume with some of its blocks taken from its journal.
class OverlaidVolume final : public ByteSource {
 public:
  OverlaidVolume(const Volume& volume, std::map<std::uint64_t, JournalCopy> blocks)
      : volume_(volume.raw),
        journal_(journal_bytes(volume)),
        block_bytes_(volume.super.block_bytes),
        blocks_(std::move(blocks)) {}

  std::uint64_t size() const override { return volume_->size(); }
  std::optional<std::uint32_t> logical_sector_size() const override {
    return volume_->logical_sector_size();
  }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    each_part({offset, out.size()}, [&](Range part, const JournalCopy* copy) {
      const auto target = out.subspan(static_cast<std::size_t>(part.offset - offset),
                                      static_cast<std::size_t>(part.length));
      const std::uint64_t below =
          copy == nullptr ? part.offset : copy->place * block_bytes_ + part.offset % block_bytes_;
      const ReadResult got = (copy == nullptr ? volume_ : journal_)->read(below, target);
      for (const Range& lost : got.unreadable)
        unreadable.push_back({part.offset + (lost.offset - below), lost.length});
      if (got.length < target.size())
        unreadable.push_back({part.offset + got.length, target.size() - got.length});
      if (copy != nullptr && copy->escaped)
        for (std::uint64_t at = part.offset % block_bytes_, i = 0; at + i < 4 && i < part.length;
             ++i)
          target[static_cast<std::size_t>(i)] =
              static_cast<std::byte>(kJournalMark >> (8 * (3 - at - i)));
      return true;
    });
  }

  bool do_extents(Range range, const ExtentVisitor& visit) const override {
    return each_part(range, [&](Range part, const JournalCopy* copy) {
      if (copy == nullptr) {
        bool going = true;
        volume_->extents(part, [&](const Extent& inner) {
          return going = visit(inner.seen_through(volume_, inner.range.offset));
        });
        return going;
      }
      return visit({ExtentKind::overlaid,
                    part,
                    {{journal_, copy->place * block_bytes_ + part.offset % block_bytes_}},
                    "journal"});
    });
  }

 private:
  template <typename Use>
  bool each_part(Range range, Use use) const {
    for (std::uint64_t at = range.offset; at < range.end();) {
      const std::uint64_t block = at / block_bytes_;
      const auto found = blocks_.lower_bound(block);
      const bool here = found != blocks_.end() && found->first == block;
      std::uint64_t end = range.end();
      if (here)
        end = std::min(end, (block + 1) * block_bytes_);
      else if (found != blocks_.end())
        end = std::min(end, found->first * block_bytes_);
      if (!use(Range{at, end - at}, here ? &found->second : nullptr)) return false;
      at = end;
    }
    return true;
  }

  SourcePtr volume_, journal_;
  std::uint64_t block_bytes_;
  std::map<std::uint64_t, JournalCopy> blocks_;
};

}  // namespace

std::uint64_t journal_start(std::uint32_t block_bytes) {
  return block_bytes == kSuperblockBytes ? std::uint64_t{2} * block_bytes : block_bytes;
}

std::uint64_t journal_span(ByteView sector) {
  if (sector.size() < kJournalHead + 8 || be32(sector, 0) != kJournalMark) return 0;
  const std::uint32_t kind = be32(sector, 4);
  if (!is_journal_start(sector))
    return kind == kJournalTags || kind == kJournalCommit || kind == kJournalRevoke ? kSector : 0;
  const std::uint64_t block = be32(sector, 0x0C), count = be32(sector, 0x10);
  const bool can_be = is_power_of_two(block) && block >= kSuperblockBytes && block <= 65536;
  return can_be && count >= 2 ? block * count : 0;
}

bool is_journal_start(ByteView block) {
  return block.size() >= kJournalHead && be32(block, 0) == kJournalMark &&
         (be32(block, 4) == 3 || be32(block, 4) == 4);
}

namespace {

// Numbers that count on: a block of the map of a file that lies in one run.
bool is_map_of_run(ByteView block, std::uint64_t entries) {
  const std::uint32_t first = le32(block, 0);
  for (std::size_t i = 0; i < entries; ++i)
    if (le32(block, i * 4) != first + i) return false;
  return first != 0;
}

// The blocks of a journal that lies in one run from block 1 of a source on, without those of its
// map where it has one: they stand between its own, where makers put them.
std::vector<std::uint64_t> blocks_of_run(const ByteSource& source, std::uint64_t block_bytes,
                                         std::uint64_t count) {
  constexpr std::uint64_t kDirect = 12;
  const std::uint64_t of_block = block_bytes / 4;
  // No more than the source has.
  count = std::min({count, kMaxJournal, source.size() / block_bytes});
  std::vector<std::uint64_t> blocks;
  std::uint64_t next = 1, map_ends = kDirect;
  bool has_map = true;
  Bytes block(static_cast<std::size_t>(block_bytes));
  const auto is_map = [&](std::uint64_t at, std::uint64_t entries) {
    return source.read(at * block_bytes, block).length == block.size() &&
           is_map_of_run(block, std::min(entries, of_block));
  };
  while (blocks.size() < count) {
    if (has_map && blocks.size() == map_ends) {
      const std::uint64_t left = count - map_ends;
      // Behind the first of them the map has a level more, and a block for it.
      const bool second = map_ends == kDirect + of_block;
      has_map = is_map(next + (second ? 1 : 0), left);
      if (has_map) next += second ? 2 : 1;
      map_ends += of_block;
    }
    blocks.push_back(next++);
  }
  return blocks;
}

}  // namespace

LooseHistory read_loose_history(const SourcePtr& disk, std::uint64_t offset,
                                const Context& context) {
  Bytes head(kSuperblockBytes);
  LooseHistory found;
  if (disk->read(offset, head).length < head.size()) return found;
  const std::uint64_t length = journal_span(head);
  if (length <= kSector) return found;
  found.block_bytes = be32(head, 0x0C);
  if (offset < found.block_bytes) return found;
  // No volume's data are in block 0: the journal begins with block 1 of what is read.
  const std::uint64_t before = offset - found.block_bytes;
  const SourcePtr window = make_window(disk, {before, disk->size() - before});
  Context quiet = context;
  quiet.findings = std::make_shared<FindingSink>();
  Volume volume{window, make_cached(window, quiet), {}, window->size(), quiet};
  volume.super.block_bytes = static_cast<std::uint32_t>(found.block_bytes);
  volume.super.block_count = std::uint64_t{1} << 48;
  volume.super.ignorable = kHasJournal;
  volume.loose_journal =
      blocks_of_run(*volume.cached, found.block_bytes, length / found.block_bytes);
  for (const JournalCopy& copy : read_history(volume).copies)
    if (!copy.escaped) found.newest[copy.block] = before + copy.place * found.block_bytes;
  return found;
}

bool read_copy(const Volume& volume, const JournalCopy& copy, std::span<std::byte> out) {
  const bool whole = read_journal(volume, copy.place, out);
  if (copy.escaped) store_be32(out, 0, kJournalMark);
  return whole;
}

SourcePtr replay_journal(const Volume& volume) {
  const bool own = volume.super.place == kSuperblockPlace;
  // A copy of the superblock does not say whether there is something to do.
  if (own && !volume.super.has(kRecover)) return volume.raw;
  const auto log = JournalLog::open(volume);
  const Range place{volume.super.place, kSuperblockBytes};
  if (!log) {
    if (own)
      volume.context.report(FindingCode::ext_journal, Severity::damage, place,
                            volume.super.journal_is_elsewhere() && !volume.journal
                                ? fmt::format("the volume was not unmounted, and the device its "
                                              "journal is on, {}, is not among the sources",
                                              uuid_text(volume.super.journal_uuid))
                                : "the volume was not unmounted, and its journal is not in it",
                            "it is read as it is: what was written last may be missing");
    return volume.raw;
  }
  if (log->start == 0) return volume.raw;
  if (log->has_fast_commits())
    volume.context.report(FindingCode::ext_journal, Severity::warning, place,
                          "the journal has fast commits, which are not read",
                          "what was written last may be missing");
  const Follow found = follow(volume, *log, log->start, log->sequence, true);
  std::map<std::uint64_t, JournalCopy> blocks;
  for (const JournalCopy& copy : found.copies) {
    const auto revoked = found.revoked.find(copy.block);
    if (revoked != found.revoked.end() &&
        static_cast<std::int32_t>(revoked->second - copy.sequence) >= 0)
      continue;
    blocks[copy.block] = copy;
  }
  volume.context.report(
      FindingCode::ext_journal, Severity::note, place, "the volume was not unmounted",
      fmt::format("{} transactions of its journal, {} blocks, are replayed in memory",
                  found.committed_to - found.committed_from, blocks.size()));
  if (blocks.empty()) return volume.raw;
  return std::make_shared<OverlaidVolume>(volume, std::move(blocks));
}

bool journal_waits(const Volume& volume) {
  const auto log = JournalLog::open(volume);
  return log && log->start != 0;
}

History read_history(const Volume& volume) {
  History history;
  const auto log = JournalLog::open(volume);
  if (!log) return history;
  // Every place where a transaction goes on is begun from; what a run has passed is not begun
  // again.
  std::set<std::uint64_t> visited;
  std::vector<Follow> runs;
  Bytes block(volume.super.block_bytes);
  for (std::uint64_t index = log->first(); index < log->count(); ++index) {
    if (visited.contains(index)) continue;
    if (!log->read(index, block) || be32(block, 0) != kJournalMark) continue;
    const std::uint32_t kind = be32(block, 4);
    if (kind != kJournalTags && kind != kJournalRevoke) continue;
    Follow run = follow(volume, *log, index, be32(block, 8), false);
    visited.insert(run.visited.begin(), run.visited.end());
    // What neither begins the log nor follows a commit may lack its start.
    const bool whole = index == log->first() || (!runs.empty() && runs.back().end == index);
    if (!whole) ++run.committed_from;
    runs.push_back(std::move(run));
  }
  for (const Follow& run : runs)
    history.copies.insert(history.copies.end(), run.copies.begin(), run.copies.end());
  std::stable_sort(
      history.copies.begin(), history.copies.end(),
      [](const JournalCopy& a, const JournalCopy& b) { return a.sequence < b.sequence; });
  history.unbroken_from = unbroken_from(runs);
  return history;
}

}  // namespace lantern::ext
