#include "recover/sweep/headless/headless_ext.h"

#include <fmt/format.h>

#include <algorithm>
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
#include "recover/sweep/headless/inode_tables.h"

namespace lantern {
namespace {

using ext::Inode;

constexpr std::uint64_t kMinBlock = 1024, kMaxBlock = 65536;
constexpr std::size_t kMaxPairs = 300'000;    // of folders and inodes that are all held together
constexpr std::size_t kMaxVotes = 1u << 20;   // candidates
constexpr std::size_t kMaxCandidates = 64;    // that are counted out
constexpr std::size_t kMaxCounted = 100'000;  // folders
constexpr std::size_t kEnough = 3;            // that agree
constexpr std::size_t kMaxVolumes = 16;
constexpr std::size_t kMaxJournals = 16;
constexpr std::size_t kMaxAsked = 500;  // inodes, for their checksum
constexpr std::size_t kPiece = 1u << 20;

// A folder's inode, wherever it was found.
struct FolderInode {
  std::uint64_t offset = 0;  // of the disk, bytes; of a copy in a journal: of the volume
  std::uint64_t first = 0;   // its first block
  std::uint64_t block = 0;   // of a copy in a journal: bytes of a block

  // Where it belongs on the disk, if the volume has this shape.
  std::optional<std::uint64_t> place(const ExtShape& shape) const {
    if (block == 0) return offset;
    if (block != shape.block) return std::nullopt;
    return shape.start + offset;
  }
};

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
        for (std::size_t i = 0; i + kMinInodeRecord <= got; i += kMinInodeRecord)
          if (const auto block = first_block(ByteView(piece).subspan(i, kMinInodeRecord)))
            inodes_.push_back({at + i, *block});
      }
    for (const Range& journal : loose_.journals) {
      if (histories_.size() == kMaxJournals) break;
      histories_.push_back(ext::read_loose_history(disk_, journal.offset, context_));
      const ext::LooseHistory& history = histories_.back();
      Bytes copy(static_cast<std::size_t>(history.block_bytes));
      for (const auto& [block, place] : history.newest) {
        context_.check_cancelled();
        if (disk_->read(place, copy).length < copy.size()) continue;
        for (std::size_t i = 0; i + kMinInodeRecord <= copy.size(); i += kMinInodeRecord)
          if (const auto first = first_block(ByteView(copy).subspan(i, kMinInodeRecord)))
            inodes_.push_back({block * history.block_bytes + i, *first, history.block_bytes});
      }
    }
  }

  using Votes = std::map<ExtShape, std::size_t>;

  static void vote(Votes& votes, std::uint64_t head, std::uint64_t block_number,
                   std::uint64_t block) {
    if (block_number == 0 || block_number > head / block) return;
    const ExtShape shape{block, head - block_number * block};
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
  std::size_t led_to(const ExtShape& shape) const {
    const std::size_t step = std::max<std::size_t>(1, loose_.heads.size() / kMaxCounted);
    std::size_t count = 0;
    for (std::size_t i = 0; i < loose_.heads.size(); i += step) {
      const std::uint64_t at = loose_.heads[i].offset;
      count += at >= shape.start && (at - shape.start) % shape.block == 0 &&
               first_blocks_.contains((at - shape.start) / shape.block);
    }
    return count;
  }

  std::optional<ExtShape> most_agreed() {
    Votes votes;
    if (loose_.heads.size() * inodes_.size() <= kMaxPairs)
      vote_by_all(votes);
    else
      vote_by_neighbours(votes);
    std::vector<std::pair<std::size_t, ExtShape>> ordered;
    ordered.reserve(votes.size());
    for (const auto& [shape, count] : votes) ordered.emplace_back(count, shape);
    std::sort(ordered.begin(), ordered.end(),
              [](const auto& a, const auto& b) { return a.first > b.first; });
    if (ordered.size() > kMaxCandidates) ordered.resize(kMaxCandidates);
    for (const std::uint64_t start : starts_)
      for (std::uint64_t block = kMinBlock; block <= kMaxBlock; block *= 2)
        ordered.push_back({0, {block, start}});
    first_blocks_.clear();
    for (const FolderInode& inode : inodes_) first_blocks_.insert(inode.first);
    std::optional<ExtShape> best;
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

  // The folders of a volume with the records that lead to them; takes those folders out.
  std::vector<FolderRecord> take_matches(const ExtShape& shape) {
    std::unordered_map<std::uint64_t, std::vector<std::uint64_t>> by_block;
    for (const FolderInode& inode : inodes_)
      if (const auto place = inode.place(shape)) by_block[inode.first].push_back(*place);
    std::vector<FolderRecord> matches;
    std::erase_if(loose_.heads, [&](const FolderHead& head) {
      if (head.offset < shape.start || (head.offset - shape.start) % shape.block != 0) return false;
      const auto records = by_block.find((head.offset - shape.start) / shape.block);
      if (records == by_block.end()) return false;
      for (const std::uint64_t record : records->second) matches.push_back({head.number, record});
      return true;
    });
    std::sort(matches.begin(), matches.end(),
              [](const FolderRecord& a, const FolderRecord& b) { return a.offset < b.offset; });
    return matches;
  }

  struct Found {
    ExtShape shape;
    std::uint64_t inode_bytes = 0;
    HeadlessVolume volume;
  };

  void take_volume(const ExtShape& shape) {
    const std::vector<FolderRecord> matches = take_matches(shape);
    // Copies of folders in a journal agree on a start as well, by inodes of the volume itself.
    const auto of_others = static_cast<std::size_t>(
        std::count_if(matches.begin(), matches.end(), [&](const FolderRecord& match) {
          return tables_.meets({match.offset, 1});
        }));
    if (of_others * 2 >= matches.size()) return;
    Found found{shape, inode_bytes_of(matches, shape), {}};
    HeadlessVolume& volume = found.volume;
    volume.start = shape.start;
    volume.opened_by.as = "ext";
    volume.opened_by.table_pieces = inode_tables_of(disk_, shape, found.inode_bytes, matches,
                                                    loose_.stretches, histories_, context_);
    if (volume.opened_by.table_pieces.empty()) return;
    std::set<std::uint32_t> folders;
    for (const FolderRecord& match : matches) folders.insert(match.number);
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
      if (numbers.size() >= kMaxTablePieces || !numbers.insert(head.number).second) continue;
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
  std::uint64_t folder_bytes(std::uint64_t at, const ExtShape& shape) const {
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
  std::optional<std::uint64_t> superblock_of(const ExtShape& shape, std::uint64_t inode_bytes,
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
              !ext::looks_like_inode(ByteView(record).first(kMinInodeRecord)))
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

}  // namespace lantern
