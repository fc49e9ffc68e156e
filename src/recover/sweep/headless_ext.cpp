#include "recover/sweep/headless_ext.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>
#include <optional>
#include <set>
#include <unordered_map>
#include <unordered_set>

#include "base/range_set.h"
#include "filesystem/ext/by_hand.h"
#include "filesystem/ext/folder.h"
#include "filesystem/ext/journal.h"
#include "lantern/sources.h"

namespace lantern {
namespace {

using ext::Inode;

constexpr std::uint64_t kMinBlock = 1024, kMaxBlock = 65536;
constexpr std::array<std::uint64_t, 4> kInodeBytes = {256, 128, 512, 1024};
constexpr std::size_t kMinRecord = 128;
constexpr std::size_t kMaxPairs = 300'000;    // of folders and inodes that are all held together
constexpr std::size_t kMaxVotes = 1u << 20;   // candidates
constexpr std::size_t kMaxCandidates = 64;    // that are counted out
constexpr std::size_t kMaxCounted = 100'000;  // folders
constexpr std::size_t kEnough = 3;            // that agree
constexpr std::size_t kMaxVolumes = 16;
constexpr std::size_t kMaxJournals = 16;
constexpr std::uint64_t kMaxFromFolder = 2u << 20;  // bytes of a table, of what no folder tells of
constexpr std::size_t kMaxPieces = 16'384;          // of a volume's inode tables
constexpr std::size_t kMaxSuperblocks = 64;         // of one disk that are tried
constexpr std::size_t kMaxAsked = 500;              // inodes, for their checksum
constexpr std::size_t kPiece = 1u << 20;
constexpr std::uint64_t kMaxBridge = 64u << 20;  // of zeros between stretches of one table

struct Shape {
  std::uint64_t block = 0;  // bytes
  std::uint64_t start = 0;  // of the disk
  friend bool operator<(const Shape& a, const Shape& b) {
    return a.block != b.block ? a.block < b.block : a.start < b.start;
  }
};

// A folder's inode, wherever it was found.
struct FolderInode {
  std::uint64_t offset = 0;  // of the disk, bytes; of a copy in a journal: of the volume
  std::uint64_t first = 0;   // its first block
  std::uint64_t block = 0;   // of a copy in a journal: bytes of a block

  // Where it belongs on the disk, if the volume has this shape.
  std::optional<std::uint64_t> place(const Shape& shape) const {
    if (block == 0) return offset;
    if (block != shape.block) return std::nullopt;
    return shape.start + offset;
  }
};

// Where in the disk the inode of number 0 would lie: the same for all of a table, and for tables
// that lie one behind the other.
using Origin = std::int64_t;

class Search {
 public:
  Search(const SourcePtr& disk, LooseExt loose, const std::vector<std::uint64_t>& starts,
         const Context& context)
      : disk_(disk), loose_(std::move(loose)), starts_(starts), context_(context) {
    RangeSet journals;
    for (const Range& journal : loose_.journals) journals.add(journal);
    journals.settle();
    // Older states of the same folders and tables.
    std::erase_if(loose_.heads, [&](const FolderHead& head) {
      return journals.meets({head.offset, 1});
    });
    std::vector<Range> outside;
    for (const Range& stretch : loose_.stretches)
      journals.parts(stretch, [&](Range part, bool in_journal) {
        if (!in_journal) outside.push_back(part);
      });
    loose_.stretches = std::move(outside);
  }

  std::vector<HeadlessVolume> run() {
    learn_folder_inodes();
    while (found_.size() < kMaxVolumes && !loose_.heads.empty()) {
      const auto shape = most_agreed();
      if (!shape) break;
      const std::size_t before = loose_.heads.size();
      take_volume(*shape);
      if (loose_.heads.size() == before) break;
    }
    take_folders();
    std::vector<HeadlessVolume> volumes;
    for (Found& found : found_) volumes.push_back(std::move(found.volume));
    return volumes;
  }

 private:
  // The first block of a record's map, where it is the record of a folder.
  static std::optional<std::uint64_t> first_block(ByteView record) {
    constexpr std::uint16_t kKind = 0xF000, kFolder = 0x4000;
    if (!ext::looks_like_inode(record) || (le16(record, 0) & kKind) != kFolder) return std::nullopt;
    const std::uint32_t flags = le32(record, 0x20);
    if ((flags & ext::kInline) != 0) return std::nullopt;
    if ((flags & ext::kInExtents) == 0) return le32(record, 0x28);
    // A node of the map in a block of its own is not followed: those folders are large, and rare.
    if (le16(record, 0x2A) == 0 || le16(record, 0x2E) != 0 || le32(record, 0x34) != 0)
      return std::nullopt;
    return le32(record, 0x3C) | std::uint64_t{le16(record, 0x3A)} << 32;
  }

  void learn_folder_inodes() {
    Bytes piece(kPiece);
    for (const Range& stretch : loose_.stretches)
      for (std::uint64_t at = stretch.offset; at < stretch.end(); at += kPiece) {
        context_.check_cancelled();
        const auto target = std::span(piece).first(
            static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, stretch.end() - at)));
        const std::size_t got = disk_->read(at, target).length;
        for (std::size_t i = 0; i + kMinRecord <= got; i += kMinRecord)
          if (const auto block = first_block(ByteView(piece).subspan(i, kMinRecord)))
            inodes_.push_back({at + i, *block});
      }
    for (const Range& journal : loose_.journals) {
      if (histories_.size() == kMaxJournals) break;
      histories_.push_back(ext::read_loose_history(disk_, journal, context_));
      const ext::LooseHistory& history = histories_.back();
      Bytes copy(static_cast<std::size_t>(history.block_bytes));
      for (const auto& [block, place] : history.newest) {
        context_.check_cancelled();
        if (disk_->read(place, copy).length < copy.size()) continue;
        for (std::size_t i = 0; i + kMinRecord <= copy.size(); i += kMinRecord)
          if (const auto first = first_block(ByteView(copy).subspan(i, kMinRecord)))
            inodes_.push_back({block * history.block_bytes + i, *first, history.block_bytes});
      }
    }
  }

  using Votes = std::map<Shape, std::size_t>;

  static void vote(Votes& votes, std::uint64_t head, std::uint64_t block_number,
                   std::uint64_t block) {
    if (block_number == 0 || block_number > head / block) return;
    const Shape shape{block, head - block_number * block};
    // What only few tell is not kept by the million.
    if (votes.size() < kMaxVotes || votes.contains(shape)) ++votes[shape];
  }

  // Each folder against each inode.
  void vote_by_all(Votes& votes) const {
    for (const FolderHead& head : loose_.heads) {
      context_.check_cancelled();
      for (const FolderInode& inode : inodes_)
        for (std::uint64_t block = kMinBlock; block <= kMaxBlock; block *= 2)
          if (inode.block == 0 || inode.block == block)
            vote(votes, head.offset, inode.first, block);
    }
  }

  // Where they are too many for that: two folders that follow each other by number, against two
  // inodes that follow each other in a table and lead as far apart.
  void vote_by_neighbours(Votes& votes) const {
    constexpr std::size_t kMaxAlike = 8;
    using Key = std::pair<std::uint64_t, std::int64_t>;  // bytes of inodes, blocks
    std::map<Key, std::vector<std::size_t>> by_step;
    for (std::size_t i = 0; i + 1 < inodes_.size(); ++i) {
      if (i % 4096 == 0) context_.check_cancelled();
      auto& alike = by_step[{inodes_[i + 1].offset - inodes_[i].offset,
                             static_cast<std::int64_t>(inodes_[i + 1].first - inodes_[i].first)}];
      if (alike.size() < kMaxAlike) alike.push_back(i);
    }
    std::vector<FolderHead> ordered = loose_.heads;
    std::sort(ordered.begin(), ordered.end(),
              [](const FolderHead& a, const FolderHead& b) { return a.number < b.number; });
    for (std::size_t i = 0; i + 1 < ordered.size(); ++i) {
      if (i % 4096 == 0) context_.check_cancelled();
      const auto apart = static_cast<std::int64_t>(ordered[i + 1].offset - ordered[i].offset);
      for (const std::uint64_t inode : kInodeBytes)
        for (std::uint64_t block = kMinBlock; block <= kMaxBlock; block *= 2) {
          const auto step = static_cast<std::int64_t>(block);
          if (apart % step != 0) continue;
          const auto alike =
              by_step.find({(ordered[i + 1].number - ordered[i].number) * inode, apart / step});
          if (alike == by_step.end()) continue;
          for (const std::size_t at : alike->second)
            vote(votes, ordered[i].offset, inodes_[at].first, block);
        }
    }
  }

  // How many folders an inode leads to, if the volume has this shape.
  std::size_t led_to(const Shape& shape) const {
    const std::size_t step = std::max<std::size_t>(1, loose_.heads.size() / kMaxCounted);
    std::size_t count = 0;
    for (std::size_t i = 0; i < loose_.heads.size(); i += step) {
      const std::uint64_t at = loose_.heads[i].offset;
      count += at >= shape.start && (at - shape.start) % shape.block == 0 &&
               first_blocks_.contains((at - shape.start) / shape.block);
    }
    return count;
  }

  std::optional<Shape> most_agreed() {
    Votes votes;
    if (loose_.heads.size() * inodes_.size() <= kMaxPairs)
      vote_by_all(votes);
    else
      vote_by_neighbours(votes);
    std::vector<std::pair<std::size_t, Shape>> ordered;
    for (const auto& [shape, count] : votes) ordered.emplace_back(count, shape);
    std::sort(ordered.begin(), ordered.end(),
              [](const auto& a, const auto& b) { return a.first > b.first; });
    if (ordered.size() > kMaxCandidates) ordered.resize(kMaxCandidates);
    for (const std::uint64_t start : starts_)
      for (std::uint64_t block = kMinBlock; block <= kMaxBlock; block *= 2)
        ordered.push_back({0, {block, start}});
    first_blocks_.clear();
    for (const FolderInode& inode : inodes_) first_blocks_.insert(inode.first);
    std::optional<Shape> best;
    std::size_t most = kEnough - 1;
    for (const auto& [count, shape] : ordered) {
      context_.check_cancelled();
      // A start where volumes begin anyway takes less to be believed.
      const bool usual = std::find(starts_.begin(), starts_.end(), shape.start) != starts_.end();
      const std::size_t led = led_to(shape);
      if (const std::size_t has = led + (usual && led > 0 ? kEnough - 1 : 0); has > most) {
        most = has;
        best = shape;
      }
    }
    return best;
  }

  struct Match {
    std::uint32_t number = 0;
    std::uint64_t offset = 0;  // of its record on the disk
  };

  // The folders of a volume with the records that lead to them; takes those folders out.
  std::vector<Match> take_matches(const Shape& shape) {
    std::unordered_map<std::uint64_t, std::vector<std::uint64_t>> by_block;
    for (const FolderInode& inode : inodes_)
      if (const auto place = inode.place(shape)) by_block[inode.first].push_back(*place);
    std::vector<Match> matches;
    std::erase_if(loose_.heads, [&](const FolderHead& head) {
      if (head.offset < shape.start || (head.offset - shape.start) % shape.block != 0) return false;
      const auto records = by_block.find((head.offset - shape.start) / shape.block);
      if (records == by_block.end()) return false;
      for (const std::uint64_t record : records->second) matches.push_back({head.number, record});
      return true;
    });
    std::sort(matches.begin(), matches.end(),
              [](const Match& a, const Match& b) { return a.offset < b.offset; });
    return matches;
  }

  // By the steps between records, and by tables beginning with a block.
  static std::uint64_t inode_bytes_of(const std::vector<Match>& matches, const Shape& shape) {
    std::map<std::uint64_t, std::size_t> votes;
    for (std::size_t i = 0; i < matches.size(); ++i) {
      const Match& match = matches[i];
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
  // goes with the block before it, where that stands for more than itself: in a journal, blocks of
  // any tables follow one another.
  std::vector<Part> parts_of(const std::vector<Match>& matches, const Shape& shape,
                             std::uint64_t inode_bytes) const {
    std::vector<Part> parts;
    auto match = matches.begin();
    for (const Range& stretch : loose_.stretches) {
      while (match != matches.end() && match->offset < stretch.offset) ++match;
      std::map<std::uint64_t, Origin> told;  // by block of the volume
      std::map<Origin, std::size_t> blocks;
      for (; match != matches.end() && match->offset < stretch.end(); ++match) {
        const Origin origin = origin_of(*match, inode_bytes);
        if (told.emplace((match->offset - shape.start) / shape.block, origin).second)
          ++blocks[origin];
      }
      if (told.empty()) continue;
      std::optional<Origin> going;
      for (std::uint64_t at = stretch.offset; at < stretch.end();) {
        const std::uint64_t block = (at - shape.start) / shape.block;
        const std::uint64_t end = std::min(stretch.end(), shape.start + (block + 1) * shape.block);
        const auto own = told.find(block);
        if (own != told.end())
          going = own->second;
        else if (!going && blocks[told.begin()->second] > 1)
          going = told.begin()->second;  // before the first that is told of
        else if (going && blocks[*going] <= 1)
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
    for (const Range& stretch : loose_.stretches) {
      const std::size_t before = all.size();
      for (; part != parts.end() && part->bytes.offset < stretch.end(); ++part)
        all.push_back(std::move(*part));
      if (all.size() > before || all.empty()) continue;
      const Range gap{all.back().bytes.end(), stretch.offset - all.back().bytes.end()};
      if (gap.length <= kMaxBridge && is_zero(gap))
        all.push_back({stretch, all.back().origin, stretch.offset});
    }
    return all;
  }

  // Blocks of the tables that a journal has a copy of: each goes with the folder nearest to where
  // it belongs.
  std::vector<Part> parts_in_journals(const std::vector<Match>& matches, const Shape& shape,
                                      std::uint64_t inode_bytes) const {
    std::vector<Part> parts;
    Bytes copy(static_cast<std::size_t>(shape.block));
    for (const ext::LooseHistory& history : histories_) {
      if (history.block_bytes != shape.block) continue;
      for (const auto& [block, place] : history.newest) {
        context_.check_cancelled();
        if (parts.size() == kMaxPieces) return parts;
        if (place < shape.start || block > disk_->size() / shape.block ||
            disk_->read(place, copy).length < copy.size())
          continue;
        bool any = false;
        for (std::size_t i = 0; i + inode_bytes <= copy.size(); i += inode_bytes)
          any = any || ext::looks_like_inode(ByteView(copy).subspan(i, kMinRecord));
        const std::uint64_t belongs = shape.start + block * shape.block;
        if (const auto origin = any ? nearest(matches, belongs, inode_bytes) : std::nullopt)
          parts.push_back({{belongs, shape.block}, *origin, place});
      }
    }
    return parts;
  }

  static Origin origin_of(const Match& match, std::uint64_t inode_bytes) {
    return static_cast<Origin>(match.offset) - static_cast<Origin>(match.number * inode_bytes);
  }

  static std::optional<Origin> nearest(const std::vector<Match>& matches, std::uint64_t at,
                                       std::uint64_t inode_bytes) {
    const auto after = std::lower_bound(
        matches.begin(), matches.end(), at,
        [](const Match& match, std::uint64_t place) { return match.offset < place; });
    const Match* best = nullptr;
    std::uint64_t distance = kMaxFromFolder + 1;
    const auto look = [&](const Match& match) {
      const std::uint64_t apart = match.offset < at ? at - match.offset : match.offset - at;
      if (apart >= distance) return;
      distance = apart;
      best = &match;
    };
    if (after != matches.end()) look(*after);
    if (after != matches.begin()) look(*std::prev(after));
    return best == nullptr ? std::nullopt : std::optional(origin_of(*best, inode_bytes));
  }

  // Pieces of the table, those that agree with the most folders first, what a journal has after
  // that: none tells inodes that another told before.
  std::vector<TablePiece> pieces_of(const std::vector<Match>& matches, const Shape& shape,
                                    std::uint64_t inode_bytes) const {
    std::map<Origin, std::size_t> support;
    for (const Match& match : matches) ++support[origin_of(match, inode_bytes)];
    std::vector<Part> parts = parts_of(matches, shape, inode_bytes);
    std::stable_sort(parts.begin(), parts.end(), [&](const Part& a, const Part& b) {
      return std::pair(support[a.origin], a.origin) > std::pair(support[b.origin], b.origin);
    });
    const std::vector<Part> copies = parts_in_journals(matches, shape, inode_bytes);
    parts.insert(parts.end(), copies.begin(), copies.end());
    RangeSet told;  // numbers
    std::vector<TablePiece> pieces;
    const Part* before = nullptr;
    for (const Part& part : parts) {
      if (pieces.size() >= kMaxPieces) break;
      // Those of one table do not tell the same inodes.
      if (before != nullptr && (before->origin != part.origin || part.place != part.bytes.offset))
        told.settle();
      before = &part;
      const auto step = static_cast<Origin>(inode_bytes);
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
            part.place + (some.offset * inode_bytes - static_cast<std::uint64_t>(from));
        if (at < shape.start) continue;
        pieces.push_back({some.offset, at - shape.start, some.length * inode_bytes});
      }
    }
    std::sort(pieces.begin(), pieces.end(), [](const TablePiece& a, const TablePiece& b) {
      return a.table_offset < b.table_offset;
    });
    return pieces;
  }

  struct Found {
    Shape shape;
    std::uint64_t inode_bytes = 0;
    HeadlessVolume volume;
  };

  void take_volume(const Shape& shape) {
    const std::vector<Match> matches = take_matches(shape);
    // Copies of folders in a journal agree on a start as well, by inodes of the volume itself.
    const auto of_others = static_cast<std::size_t>(
        std::count_if(matches.begin(), matches.end(), [&](const Match& match) {
          return tables_.meets({match.offset, 1});
        }));
    if (of_others * 2 >= matches.size()) return;
    Found found{shape, inode_bytes_of(matches, shape), {}};
    HeadlessVolume& volume = found.volume;
    volume.start = shape.start;
    volume.opened_by.as = "ext";
    volume.opened_by.table_pieces = pieces_of(matches, shape, found.inode_bytes);
    if (volume.opened_by.table_pieces.empty()) return;
    std::set<std::uint32_t> folders;
    for (const Match& match : matches) folders.insert(match.number);
    std::uint64_t records = 0;
    for (const TablePiece& piece : volume.opened_by.table_pieces) {
      records += piece.length / found.inode_bytes;
      tables_.add({shape.start + piece.volume_offset, piece.length});
    }
    tables_.settle();
    volume.opened_by.geometry = {{"block", shape.block}, {"inode", found.inode_bytes}};
    volume.evidence = fmt::format(
        "{} of its folders and the inodes that lead to them, which agree that the volume begins at "
        "byte {}, blocks have {} bytes and inodes {}; room for {} of its inodes",
        folders.size(), shape.start, shape.block, found.inode_bytes, records);
    if (const auto place = superblock_of(shape, found.inode_bytes, volume.opened_by.table_pieces)) {
      volume.opened_by.geometry = {{"superblock", *place - shape.start}};
      volume.evidence +=
          fmt::format("; a superblock at byte {}, whose checksums these inodes have", *place);
    }
    found_.push_back(std::move(found));
  }

  // Folders whose inodes are lost, of the volume that begins last before them: their blocks are
  // left, and name what is in them.
  void take_folders() {
    std::vector<std::set<std::uint32_t>> told(found_.size());
    for (const FolderHead& head : loose_.heads) {
      context_.check_cancelled();
      Found* own = nullptr;
      for (Found& found : found_)
        if (found.shape.start <= head.offset &&
            (own == nullptr || found.shape.start > own->shape.start))
          own = &found;
      if (own == nullptr || (head.offset - own->shape.start) % own->shape.block != 0) continue;
      std::set<std::uint32_t>& numbers = told[static_cast<std::size_t>(own - found_.data())];
      if (numbers.size() >= kMaxPieces || !numbers.insert(head.number).second) continue;
      own->volume.opened_by.table_pieces.push_back({ext::kFolderPiece + head.number,
                                                    head.offset - own->shape.start,
                                                    folder_bytes(head.offset, own->shape)});
    }
    for (std::size_t i = 0; i < found_.size(); ++i)
      if (!told[i].empty())
        found_[i].volume.evidence +=
            fmt::format("; blocks of {} folders by themselves", told[i].size());
  }

  // A folder's first block, and those behind it that look like its next ones.
  std::uint64_t folder_bytes(std::uint64_t at, const Shape& shape) const {
    constexpr std::uint64_t kMaxBlocks = 256;
    ext::Volume alike{nullptr, nullptr, {}, 0, context_};
    alike.super.block_bytes = static_cast<std::uint32_t>(shape.block);
    alike.super.needed = ext::kFileType;
    alike.super.inode_count = 0xFFFFFFFF;
    Bytes block(static_cast<std::size_t>(shape.block));
    std::uint64_t count = 1;
    for (; count < kMaxBlocks; ++count) {
      context_.check_cancelled();
      const std::uint64_t next = at + count * shape.block;
      if (disk_->read(next, block).length < block.size() || le32(block, 8) == '.' ||
          !is_folder_block(alike, block))
        break;
    }
    return count * shape.block;
  }

  // One that keeps checksums, and whose checksums most inodes of these pieces have.
  std::optional<std::uint64_t> superblock_of(const Shape& shape, std::uint64_t inode_bytes,
                                             const std::vector<TablePiece>& pieces) const {
    for (const std::uint64_t place : loose_.superblocks) {
      context_.check_cancelled();
      if (place < shape.start) continue;
      const auto found = ext::superblock_at(*disk_, place);
      if (found.empty() || !found.front().sum_is_right) continue;
      const ext::Superblock& super = found.front();
      if (super.block_bytes != shape.block || super.inode_bytes != inode_bytes ||
          !super.has(ext::kMetadataSums))
        continue;
      std::size_t right = 0, asked = 0;
      Bytes record(static_cast<std::size_t>(inode_bytes));
      for (const TablePiece& piece : pieces)
        for (std::uint64_t at = 0; at < piece.length && asked < kMaxAsked; at += inode_bytes) {
          if (disk_->read(shape.start + piece.volume_offset + at, record).length < record.size() ||
              !ext::looks_like_inode(ByteView(record).first(kMinRecord)))
            continue;
          const std::uint64_t number = piece.table_offset + at / inode_bytes;
          right += parse_inode(super, static_cast<std::uint32_t>(number), record).sum_is_right;
          ++asked;
        }
      if (right * 2 > asked) return place;
    }
    return std::nullopt;
  }

  const SourcePtr& disk_;
  LooseExt loose_;
  const std::vector<std::uint64_t>& starts_;
  const Context& context_;
  std::vector<ext::LooseHistory> histories_;
  std::vector<FolderInode> inodes_;
  std::vector<Found> found_;
  RangeSet tables_;                                 // bytes of the disk: their inode tables
  std::unordered_set<std::uint64_t> first_blocks_;  // of them
};

}  // namespace

std::vector<HeadlessVolume> headless_ext(const SourcePtr& disk, LooseExt loose,
                                         const std::vector<std::uint64_t>& starts,
                                         const Context& context) {
  return Search(disk, std::move(loose), starts, context).run();
}

std::vector<HeadlessVolume> ext_by_superblock(const SourcePtr& disk,
                                              const std::vector<std::uint64_t>& superblocks,
                                              const std::vector<std::uint64_t>& starts,
                                              const Context& context) {
  std::vector<HeadlessVolume> found;
  std::set<std::pair<std::uint64_t, std::string>> taken;  // start and UUID
  std::size_t tried = 0;
  // The youngest are the last of a journal.
  for (auto place = superblocks.rbegin(); place != superblocks.rend(); ++place) {
    const auto there = ext::superblock_at(*disk, *place);
    if (there.empty() || !there.front().sum_is_right) continue;
    const ext::Superblock& super = there.front();
    const bool known = std::any_of(taken.begin(), taken.end(), [&](const auto& volume) {
      return volume.second == ext::uuid_text(super.uuid);
    });
    if (known || ++tried > kMaxSuperblocks) continue;
    for (const std::uint64_t start : starts) {
      context.check_cancelled();
      if (start > *place) continue;
      const SourcePtr window = make_window(disk, {start, disk->size() - start});
      Context quiet = context;
      quiet.findings = std::make_shared<FindingSink>();
      const ext::Volume volume{window, make_cached(window, quiet), super, window->size(), quiet};
      const auto root = volume.inode(ext::kRootInode);
      if (!root || !root->folder()) continue;
      taken.emplace(start, ext::uuid_text(super.uuid));
      HeadlessVolume opened;
      opened.start = start;
      opened.opened_by.as = "ext";
      opened.opened_by.geometry = {{"superblock", *place - start}};
      opened.evidence =
          fmt::format("a superblock at byte {}, and the root folder where it leads from byte {} on",
                      *place, start);
      found.push_back(std::move(opened));
      break;
    }
  }
  return found;
}

}  // namespace lantern
