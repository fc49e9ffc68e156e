#include "recover/sweep/headless/inode_tables.h"

#include <algorithm>
#include <map>
#include <optional>

#include "base/range_set.h"
#include "filesystem/ext/inode.h"

namespace lantern {
namespace {

constexpr std::size_t kPiece = 1u << 20;
constexpr std::uint64_t kMaxBridge = 64u << 20;     // of zeros between stretches of one table
constexpr std::uint64_t kMaxFromFolder = 2u << 20;  // bytes of a table, of what no folder tells of

// Where in the disk the inode of number 0 would lie: the same for all of a table, and for tables
// that lie one behind the other.
using Origin = std::int64_t;

class Tables {
 public:
  Tables(const SourcePtr& disk, const ExtShape& shape, std::uint64_t inode_bytes,
         const std::vector<FolderRecord>& matches, const std::vector<Range>& stretches,
         const std::vector<ext::LooseHistory>& histories, const Context& context)
      : disk_(disk),
        shape_(shape),
        inode_bytes_(inode_bytes),
        matches_(matches),
        stretches_(stretches),
        histories_(histories),
        context_(context) {}

  // Pieces of the table, those that agree with the most folders first, what a journal has after
  // that: none tells inodes that another told before.
  std::vector<TablePiece> pieces() const {
    std::map<Origin, std::size_t> support;
    for (const FolderRecord& match : matches_) ++support[origin_of(match)];
    std::vector<Part> parts = parts_of();
    std::stable_sort(parts.begin(), parts.end(), [&](const Part& a, const Part& b) {
      return std::pair(support[a.origin], a.origin) > std::pair(support[b.origin], b.origin);
    });
    const std::vector<Part> copies = parts_in_journals();
    parts.insert(parts.end(), copies.begin(), copies.end());
    RangeSet told;  // numbers
    std::vector<TablePiece> pieces;
    const Part* before = nullptr;
    for (const Part& part : parts) {
      if (pieces.size() >= kMaxTablePieces) break;
      // Those of one table do not tell the same inodes.
      if (before != nullptr && (before->origin != part.origin || part.place != part.bytes.offset))
        told.settle();
      before = &part;
      const auto step = static_cast<Origin>(inode_bytes_);
      const Origin from = static_cast<Origin>(part.bytes.offset) - part.origin;
      const Origin to = static_cast<Origin>(part.bytes.end()) - part.origin;
      // Whole records, of numbers there are.
      const Origin first = std::max<Origin>(1, (from + step - 1) / step);
      if (to / step <= first) continue;
      std::vector<Range> fresh;
      told.parts({static_cast<std::uint64_t>(first), static_cast<std::uint64_t>(to / step - first)},
                 [&](Range some, bool known) {
                   if (!known) fresh.push_back(some);
                 });
      for (const Range& some : fresh) {
        told.add(some);
        const std::uint64_t at =
            part.place + (some.offset * inode_bytes_ - static_cast<std::uint64_t>(from));
        if (at < shape_.start) continue;
        pieces.push_back({some.offset, at - shape_.start, some.length * inode_bytes_});
      }
    }
    std::sort(pieces.begin(), pieces.end(), [](const TablePiece& a, const TablePiece& b) {
      return a.table_offset < b.table_offset;
    });
    return pieces;
  }

 private:
  bool is_zero(Range range) const {
    Bytes piece(static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, range.length)));
    for (std::uint64_t at = range.offset; at < range.end(); at += kPiece) {
      context_.check_cancelled();
      const auto target = std::span(piece).first(
          static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, range.end() - at)));
      if (disk_->read(at, target).length < target.size() || !all_zero(target)) return false;
    }
    return true;
  }

  // A part of an inode table.
  struct Part {
    Range bytes;  // where it belongs on the disk
    Origin origin = 0;
    std::uint64_t place = 0;  // where it is
  };

  // Which parts of the stretches have which numbers. A block of a stretch that no folder tells of
  // goes with the block before it, where all of the stretch is told the same, or that block stands
  // for more than itself: in what is left of a journal, blocks of any tables follow one another.
  std::vector<Part> parts_of() const {
    std::vector<Part> parts;
    auto match = matches_.begin();
    for (const Range& stretch : stretches_) {
      while (match != matches_.end() && match->offset < stretch.offset) ++match;
      std::map<std::uint64_t, Origin> told;  // by block of the volume
      std::map<Origin, std::size_t> blocks;
      for (; match != matches_.end() && match->offset < stretch.end(); ++match) {
        const Origin origin = origin_of(*match);
        if (told.emplace((match->offset - shape_.start) / shape_.block, origin).second)
          ++blocks[origin];
      }
      if (told.empty()) continue;
      std::optional<Origin> going;
      for (std::uint64_t at = stretch.offset; at < stretch.end();) {
        const std::uint64_t block = (at - shape_.start) / shape_.block;
        const std::uint64_t end =
            std::min(stretch.end(), shape_.start + (block + 1) * shape_.block);
        const auto own = told.find(block);
        if (own != told.end())
          going = own->second;
        else if (!going && (blocks.size() == 1 || blocks[told.begin()->second] > 1))
          going = told.begin()->second;  // before the first that is told of
        else if (going && blocks.size() > 1 && blocks[*going] <= 1)
          going.reset();
        if (going) add_part(parts, {{at, end - at}, *going, at});
        at = end;
      }
    }
    return bridged(std::move(parts));
  }

  static void add_part(std::vector<Part>& parts, const Part& part) {
    if (!parts.empty() && parts.back().origin == part.origin &&
        parts.back().bytes.end() == part.bytes.offset)
      parts.back().bytes.length += part.bytes.length;
    else
      parts.push_back(part);
  }

  // Stretches beside a table with nothing but zeros between are of it: the inodes there were never
  // used.
  std::vector<Part> bridged(std::vector<Part> parts) const {
    std::vector<Part> all;
    auto part = parts.begin();
    for (const Range& stretch : stretches_) {
      const std::size_t before = all.size();
      for (; part != parts.end() && part->bytes.offset < stretch.end(); ++part)
        all.push_back(*part);
      if (all.size() > before || all.empty()) continue;
      const Range gap{all.back().bytes.end(), stretch.offset - all.back().bytes.end()};
      if (gap.length <= kMaxBridge && is_zero(gap))
        all.push_back({stretch, all.back().origin, stretch.offset});
    }
    return all;
  }

  // Blocks of the tables that a journal has a copy of: each goes with the folder nearest to where
  // it belongs.
  std::vector<Part> parts_in_journals() const {
    std::vector<Part> parts;
    Bytes copy(static_cast<std::size_t>(shape_.block));
    for (const ext::LooseHistory& history : histories_) {
      if (history.block_bytes != shape_.block) continue;
      for (const auto& [block, place] : history.newest) {
        context_.check_cancelled();
        if (parts.size() == kMaxTablePieces) return parts;
        if (place < shape_.start || block > disk_->size() / shape_.block ||
            disk_->read(place, copy).length < copy.size())
          continue;
        bool any = false;
        for (std::size_t i = 0; i + inode_bytes_ <= copy.size(); i += inode_bytes_)
          any = any || ext::looks_like_inode(ByteView(copy).subspan(i, kMinInodeRecord));
        const std::uint64_t belongs = shape_.start + block * shape_.block;
        if (const auto origin = any ? nearest(belongs) : std::nullopt)
          parts.push_back({{belongs, shape_.block}, *origin, place});
      }
    }
    return parts;
  }

  Origin origin_of(const FolderRecord& match) const {
    return static_cast<Origin>(match.offset) - static_cast<Origin>(match.number * inode_bytes_);
  }

  std::optional<Origin> nearest(std::uint64_t at) const {
    const auto after = std::lower_bound(
        matches_.begin(), matches_.end(), at,
        [](const FolderRecord& match, std::uint64_t place) { return match.offset < place; });
    const FolderRecord* best = nullptr;
    std::uint64_t distance = kMaxFromFolder + 1;
    const auto look = [&](const FolderRecord& match) {
      const std::uint64_t apart = match.offset < at ? at - match.offset : match.offset - at;
      if (apart >= distance) return;
      distance = apart;
      best = &match;
    };
    if (after != matches_.end()) look(*after);
    if (after != matches_.begin()) look(*std::prev(after));
    return best == nullptr ? std::nullopt : std::optional(origin_of(*best));
  }

  const SourcePtr& disk_;
  const ExtShape& shape_;
  std::uint64_t inode_bytes_;
  const std::vector<FolderRecord>& matches_;  // by offset
  const std::vector<Range>& stretches_;
  const std::vector<ext::LooseHistory>& histories_;
  const Context& context_;
};

}  // namespace

std::uint64_t inode_bytes_of(const std::vector<FolderRecord>& matches, const ExtShape& shape) {
  std::map<std::uint64_t, std::size_t> votes;
  for (std::size_t i = 0; i < matches.size(); ++i) {
    const FolderRecord& match = matches[i];
    for (const std::uint64_t bytes : kInodeBytes) {
      if (bytes > shape.block) continue;
      if (match.offset % bytes == (shape.start % bytes)) votes[bytes] += 0;
      if (i > 0 && match.number > matches[i - 1].number &&
          match.offset - matches[i - 1].offset == (match.number - matches[i - 1].number) * bytes)
        votes[bytes] += 2;
      if ((match.offset - shape.start) % shape.block == (match.number - 1) * bytes % shape.block)
        ++votes[bytes];
    }
  }
  std::uint64_t best = kInodeBytes.front();
  for (const std::uint64_t bytes : kInodeBytes)
    if (votes.contains(bytes) && votes[bytes] > (votes.contains(best) ? votes[best] : 0))
      best = bytes;
  return best;
}

std::vector<TablePiece> inode_tables_of(const SourcePtr& disk, const ExtShape& shape,
                                        std::uint64_t inode_bytes,
                                        const std::vector<FolderRecord>& records,
                                        const std::vector<Range>& stretches,
                                        const std::vector<ext::LooseHistory>& histories,
                                        const Context& context) {
  return Tables(disk, shape, inode_bytes, records, stretches, histories, context).pieces();
}

}  // namespace lantern
