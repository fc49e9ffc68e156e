#include "filesystem/ext/places.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/crc32c.h"
#include "container/expectations.h"
#include "filesystem/ext/block_map.h"
#include "filesystem/ext/journal.h"
#include "filesystem/ext/journal_log.h"
#include "filesystem/ext/volume.h"
#include "lantern/sources.h"
#include "lantern/volume_table.h"
#include "volume/table_places.h"

namespace lantern::ext {
namespace {

constexpr std::size_t kMaxFound = 1u << 20;
constexpr std::uint32_t kMaxGroups = 1u << 16;
constexpr std::uint32_t kMaxInodes = 4u << 20;  // of a volume
constexpr std::size_t kOwnGroupAt = 0x5A;
// Bits of what a check says (container/expectations.h).
constexpr double kWideSum = 30, kNarrowSum = 14, kSameCount = 9, kWrong = -8;

struct FoundSuperblock {
  std::size_t piece = 0;
  std::uint64_t within = 0;  // bytes of the piece
};

bool begins_folder(ByteView sector) {
  constexpr std::size_t kFirstBytes = 12;
  return le32(sector, 0) != 0 && le16(sector, 4) == kFirstBytes && u8(sector, 6) == 1 &&
         u8(sector, 8) == '.' && u8(sector, 9) == 0 && le32(sector, kFirstBytes) != 0 &&
         u8(sector, kFirstBytes + 6) == 2 && has_text(sector, kFirstBytes + 8, "..");
}

// Where the descriptors begin that stand behind a superblock, by where that lies.
std::uint64_t descriptors_behind(std::uint64_t superblock, std::uint32_t group,
                                 std::uint64_t block_bytes) {
  return group == 0
             ? superblock - kSuperblockPlace + (kSuperblockPlace / block_bytes + 1) * block_bytes
             : superblock + block_bytes;
}

std::size_t zero_bits(ByteView bits, std::size_t count) {
  std::size_t zeros = 0;
  for (std::size_t i = 0; i < count; ++i)
    if ((u8(bits, i / 8) >> (i % 8) & 1) == 0) ++zeros;
  return zeros;
}

class Search final : public PlaceFinder {
 public:
  Search(const LoosePieces& loose, const Context& context) : loose_(loose), context_(context) {}

  void look(std::size_t piece, std::uint64_t within, ByteView sector) override {
    constexpr std::size_t kMarkAt = 0x38;
    if (le16(sector, kMarkAt) == 0xEF53 && superblocks_.size() < kMaxFound)
      superblocks_.push_back({piece, within});
  }

  std::vector<PlaceClaim> claims(const SourcePtr& known, Expectations& expected) override {
    known_ = known;
    claims_.clear();
    volumes_.clear();
    const auto rows = read_volume_table(known, std::nullopt, known_formats(), context_).rows;
    for (const VolumeRow& row : rows) known_superblock(row.range.offset);
    if (rows.empty()) known_superblock(0);
    for (const FoundSuperblock& found : superblocks_) place_superblock(found, rows);
    for (const auto& [start, volume] : volumes_) {
      expect_reserve(start, volume, expected);
      expect_groups(start, volume, expected);
      expect_of_inodes(start, volume, expected);
    }
    return std::move(claims_);
  }

 private:
  void known_superblock(std::uint64_t start) {
    Bytes bytes(kSuperblockBytes);
    const ReadResult got = known_->read(start + kSuperblockPlace, bytes);
    if (got.length < bytes.size() || !got.unreadable.empty()) return;
    if (const auto super = parse_superblock(bytes, kSuperblockPlace)) add_volume(start, *super);
  }

  void add_volume(std::uint64_t start, const Superblock& super) {
    if (volumes_.contains(start) || start >= known_->size()) return;
    const SourcePtr bytes = make_window(
        unquestioned(known_), intersect({start, super.volume_bytes()}, {0, known_->size()}));
    volumes_.emplace(start, Volume{bytes, bytes, super, bytes->size(), context_});
  }

  void place_superblock(const FoundSuperblock& found, const std::vector<VolumeRow>& rows) {
    Bytes bytes(kSuperblockBytes);
    const ByteSource& piece = *loose_.bytes[found.piece];
    if (piece.read(found.within, bytes).length < bytes.size()) return;
    const auto super = parse_superblock(bytes, kSuperblockPlace);
    if (!super || !super->sum_is_right) return;
    const std::uint32_t group = le16(bytes, kOwnGroupAt);
    const auto start = volume_start(rows, known_->size(), super->volume_bytes(), 0);
    if (!start || group >= super->group_count()) return;
    add_volume(*start, *super);
    const std::uint64_t place =
        *start + (group == 0 ? kSuperblockPlace : super->group_start(group) * super->block_bytes);
    // A journal keeps copies of blocks, but what stands behind them there is another block.
    if (!has_descriptors(piece, found.within, group, *super)) return;
    claim(found.piece, place, found.within,
          fmt::format("it holds the superblock of group {} of the ext volume at byte {}", group,
                      *start));
  }

  static bool has_descriptors(const ByteSource& piece, std::uint64_t superblock,
                              std::uint32_t group, const Superblock& super) {
    if (super.has(kMetaGroups)) return true;
    if (group == 0 && superblock < kSuperblockPlace) return false;
    Bytes first(super.descriptor_bytes);
    const std::uint64_t at = descriptors_behind(superblock, group, super.block_bytes);
    if (piece.read(at, first).length < first.size()) return false;
    const std::uint64_t table = le32(first, 8);
    const auto sum = descriptor_sum(super, 0, first);
    return table != 0 && table < super.block_count && (!sum || *sum == le16(first, 0x1E));
  }

  void claim(std::size_t piece, std::uint64_t place, std::uint64_t within, std::string why) {
    if (place >= within && (place - within) % loose_.piece_bytes == 0)
      claims_.push_back({piece, place - within, std::move(why)});
  }

  // Blocks kept free behind the first descriptors: each names its copies in other groups.
  static void expect_reserve(std::uint64_t start, const Volume& volume, Expectations& expected) {
    const Superblock& super = volume.super;
    const std::uint32_t groups = std::min(super.group_count(), kMaxGroups);
    std::vector<std::uint32_t> copies;  // blocks from the one that names them
    for (std::uint32_t group = 1; group < groups; ++group)
      if (super.has_copy(group)) copies.push_back(group * super.blocks_per_group);
    if (copies.empty() || copies.size() > super.block_bytes / 4 || super.has(kMetaGroups)) return;
    const std::uint64_t tables = std::uint64_t{super.group_count()} * super.descriptor_bytes;
    const std::uint64_t first =
        super.first_data_block + 1 + (tables + super.block_bytes - 1) / super.block_bytes;
    for (std::uint64_t i = 0; i < std::min(super.reserved_tables, super.block_bytes / 4); ++i) {
      volume.context.check_cancelled();
      const std::uint64_t place = start + volume.block_place(first + i);
      if (!expected.is_open(place)) continue;
      expected.add(
          {place, super.block_bytes}, "a block reserved for descriptors",
          [block = first + i, copies](ByteView bytes) {
            std::size_t named = 0;  // a volume that has grown may have more of them
            while (named < copies.size() && le32(bytes, 4 * named) == block + copies[named])
              ++named;
            return named > 0 && all_zero(bytes.subspan(4 * named)) ? kWideSum : kWrong;
          });
    }
  }

  void expect_groups(std::uint64_t start, const Volume& volume, Expectations& expected) const {
    const Superblock& super = volume.super;
    for (std::uint32_t number = 0; number < std::min(volume.groups_here(), kMaxGroups); ++number) {
      context_.check_cancelled();
      const auto group = volume.group(number);
      if (!group) continue;
      const auto at = descriptor_place(super, number, 0);
      Bytes descriptor(super.descriptor_bytes);
      if (!at) continue;
      const ReadResult got = volume.raw->read(*at, descriptor);
      // The copies date from when the volume was made.
      const bool fresh = got.length == descriptor.size() && got.unreadable.empty();
      if (fresh && !group->no_bitmap)
        expect_bitmap(start + volume.block_place(group->block_bitmap), super, descriptor, 0x18,
                      super.blocks_per_group / super.cluster_blocks, group->free_clusters,
                      fmt::format("the block bitmap of group {}", number), expected);
      if (fresh && !group->no_inodes)
        expect_bitmap(start + volume.block_place(group->inode_bitmap), super, descriptor, 0x1A,
                      super.inodes_per_group, free_inodes(super, descriptor),
                      fmt::format("the inode bitmap of group {}", number), expected);
      if (!group->no_inodes) expect_table(start, volume, number, *group, expected);
    }
  }

  static std::uint32_t free_inodes(const Superblock& super, ByteView descriptor) {
    constexpr std::size_t kLow = 0x0E, kHigh = 0x2E;
    return le16(descriptor, kLow) |
           (super.descriptor_bytes > kHigh ? std::uint32_t{le16(descriptor, kHigh)} << 16 : 0);
  }

  // `sum_at`: of its checksum in the descriptor, the high half being 32 bytes behind.
  void expect_bitmap(std::uint64_t place, const Superblock& super, ByteView descriptor,
                     std::size_t sum_at, std::size_t bits, std::uint32_t free, std::string what,
                     Expectations& expected) const {
    const std::size_t length = bits / 8;
    if (length > super.block_bytes || bits == 0) return;
    const bool wide = super.descriptor_bytes >= sum_at + 34;
    const std::uint32_t said =
        le16(descriptor, sum_at) | (wide ? std::uint32_t{le16(descriptor, sum_at + 32)} << 16 : 0);
    Weigh weigh;
    if (super.has(kMetadataSums))
      weigh = [length, wide, said, seed = super.checksum_seed](ByteView bytes) {
        const std::uint32_t sum = crc32c_chain(seed, bytes.first(length));
        if ((wide ? sum : sum & 0xFFFF) != said) return kWrong;
        return wide ? kWideSum : kNarrowSum;
      };
    else
      weigh = [bits, free](ByteView bytes) {
        return zero_bits(bytes, bits) == free ? kSameCount : kWrong;
      };
    expected.add({place, super.block_bytes}, std::move(what), std::move(weigh));
  }

  void expect_table(std::uint64_t start, const Volume& volume, std::uint32_t number,
                    const Group& group, Expectations& expected) const {
    constexpr std::uint32_t kLookedAt = 32;  // of the blocks of a table in one block of the disk
    const Superblock& super = volume.super;
    const std::uint32_t in_block = super.block_bytes / super.inode_bytes;
    const std::uint32_t used =
        super.inodes_per_group - std::min(group.unused_inodes, super.inodes_per_group);
    std::uint64_t last = ~std::uint64_t{0};
    std::uint32_t looked = 0;
    for (std::uint32_t first = 0; first < used; first += in_block) {
      const std::uint64_t place = start + volume.block_place(group.inode_table + first / in_block);
      if (!expected.is_open(place)) continue;
      if (place / loose_.piece_bytes != std::exchange(last, place / loose_.piece_bytes)) looked = 0;
      if (++looked > kLookedAt) continue;
      const std::uint32_t inode = number * super.inodes_per_group + first + 1;
      expected.add({place, super.block_bytes},
                   fmt::format("inode {} of the ext volume at byte {}", inode, start),
                   [&volume, inode, in_block](ByteView block) {
                     double bits = 0;
                     for (std::uint32_t i = 0; i < in_block; ++i)
                       bits += weigh_inode(volume, inode + i,
                                           block.subspan(std::size_t{i} * volume.super.inode_bytes,
                                                         volume.super.inode_bytes));
                     return bits;
                   });
    }
  }

  static double weigh_inode(const Volume& volume, std::uint32_t number, ByteView record) {
    const Superblock& super = volume.super;
    if (all_zero(record)) return 0;
    const Inode inode = parse_inode(super, number, record);
    if (super.has(kMetadataSums)) {
      if (!inode.sum_is_right) return kWrong;
      return super.inode_bytes > 128 ? kWideSum : kNarrowSum;
    }
    if (inode.links == 0) return 0;
    if (!looks_like_inode(record)) return kWrong;
    return weigh_folder(volume, inode);
  }

  // Without checksums an inode is known by the folder it leads to, which names it.
  static double weigh_folder(const Volume& volume, const Inode& inode) {
    if (!inode.folder() || inode.has(kInline)) return 0.5;
    const BlockMap map = map_blocks(volume, inode);
    Bytes block(volume.super.block_bytes);
    if (map.runs.empty() || !volume.read_block(map.runs.front().physical, block)) return 0;
    return begins_folder(block) && le32(block, 0) == inode.number ? kWideSum : kWrong;
  }

  void expect_of_inodes(std::uint64_t start, const Volume& volume, Expectations& expected) const {
    constexpr std::uint32_t kJournalInode = 8;
    const Superblock& super = volume.super;
    for (std::uint32_t group = 0; group < std::min(volume.groups_here(), kMaxGroups); ++group) {
      const auto described = volume.group(group);
      if (!described || described->no_inodes) continue;
      const std::uint32_t used =
          super.inodes_per_group - std::min(described->unused_inodes, super.inodes_per_group);
      for (std::uint32_t i = 1; i <= used; ++i) {
        const std::uint64_t number = std::uint64_t{group} * super.inodes_per_group + i;
        if (number > kMaxInodes) return;
        context_.check_cancelled();
        const auto inode = volume.inode(static_cast<std::uint32_t>(number));
        if (!inode || inode->links == 0 || inode->has(kInline)) continue;
        if (inode->folder()) expect_folder(start, volume, *inode, expected);
        if (inode->has(kInExtents)) expect_nodes(start, volume, *inode, expected);
        if (number == kJournalInode) expect_journal(start, volume, *inode, expected);
      }
    }
  }

  // The first block names its inode; the others end with a checksum of their folder.
  static void expect_folder(std::uint64_t start, const Volume& volume, const Inode& inode,
                            Expectations& expected) {
    const Superblock& super = volume.super;
    const std::uint32_t seed = checksum_seed(super, inode.number, inode.generation);
    for (const BlockRun& run : map_blocks(volume, inode).runs)
      for (std::uint64_t i = 0; i < run.here(volume); ++i) {
        volume.context.check_cancelled();
        const std::uint64_t place = start + volume.block_place(run.physical + i);
        if (!expected.is_open(place)) continue;
        if (run.logical + i == 0)
          expected.add(
              {place, super.block_bytes}, fmt::format("the folder of inode {}", inode.number),
              [number = inode.number](ByteView block) {
                return begins_folder(block) && le32(block, 0) == number ? kWideSum : kWrong;
              });
        else if (super.has(kMetadataSums))
          expected.add({place, super.block_bytes},
                       fmt::format("a block of the folder of inode {}", inode.number),
                       [seed](ByteView block) { return weigh_folder_block(block, seed); });
      }
  }

  static double weigh_folder_block(ByteView block, std::uint32_t seed) {
    constexpr std::size_t kTail = 12;
    const ByteView body = block.first(block.size() - kTail);
    return crc32c_chain(seed, body) == le32(block, block.size() - 4) ? kWideSum : kWrong;
  }

  static void expect_nodes(std::uint64_t start, const Volume& volume, const Inode& inode,
                           Expectations& expected) {
    constexpr std::size_t kNode = 12, kEntry = 12;
    const Superblock& super = volume.super;
    if (!super.has(kMetadataSums) || le16(inode.map, 0) != 0xF30A || le16(inode.map, 6) == 0)
      return;
    const std::size_t count = std::min<std::size_t>(le16(inode.map, 2), 4);
    for (std::size_t i = 0; i < count; ++i) {
      const std::size_t at = kNode + i * kEntry;
      const std::uint64_t block = le32(inode.map, at + 4) | std::uint64_t{le16(inode.map, at + 8)}
                                                                << 32;
      if (!volume.valid_block(block)) continue;
      const std::uint32_t seed = checksum_seed(super, inode.number, inode.generation);
      expected.add(
          {start + volume.block_place(block), super.block_bytes},
          fmt::format("a block of the map of inode {}", inode.number), [seed](ByteView node) {
            const std::size_t tail = kNode + std::size_t{le16(node, 4)} * kEntry;
            if (le16(node, 0) != 0xF30A || tail + 4 > node.size()) return kWrong;
            return crc32c_chain(seed, node.first(tail)) == le32(node, tail) ? kWideSum : kWrong;
          });
    }
  }

  // The head of the journal; blocks that transactions wrote, which have checksums; and its own
  // behind them: each says where the next one is, and of which transaction that has to be.
  static void expect_journal(std::uint64_t start, const Volume& volume, const Inode& inode,
                             Expectations& expected) {
    const std::vector<BlockRun> runs = map_blocks(volume, inode).runs;
    Bytes block(volume.super.block_bytes);
    if (runs.empty()) return;
    expected.add({start + volume.block_place(runs.front().physical), kSector},
                 "the head of the journal",
                 [](ByteView bytes) { return is_journal_start(bytes) ? kWideSum : kWrong; });
    if (!volume.read_block(runs.front().physical, block)) return;
    const auto opened = JournalLog::open(volume);
    if (!opened) return;
    const auto log = std::make_shared<const JournalLog>(*opened);
    const auto place = [&](std::uint64_t index) {
      return start + volume.block_place(log->place(index));
    };
    std::uint64_t next = 0;
    for (std::uint64_t i = log->first(); i < log->count(); i = std::max(i + 1, next)) {
      volume.context.check_cancelled();
      if (expected.is_open(place(i)) || !log->read(i, block) || be32(block, 0) != kJournalMark)
        continue;
      const std::uint32_t sequence = be32(block, 8);
      next = log->next(i);
      if (be32(block, 4) == kJournalTags)
        for (const JournalTag& tag : log->tags_of(block)) {
          if (log->sum_bits() != 0 && expected.is_open(place(next)))
            expected.add({place(next), volume.super.block_bytes},
                         fmt::format("a block of transaction {} of the journal", sequence),
                         [log, tag, sequence](ByteView bytes) {
                           if (!log->fits(tag, sequence, bytes)) return kWrong;
                           return log->sum_bits() == 32 ? kWideSum : kNarrowSum;
                         });
          next = log->next(next);
        }
      expected.add(
          {place(next), kSector},
          fmt::format("what follows transaction {} of the journal", sequence),
          [of = be32(block, 4) == kJournalCommit ? sequence + 1 : sequence](ByteView bytes) {
            return be32(bytes, 0) == kJournalMark && be32(bytes, 8) == of ? kWideSum : -1.0;
          });
    }
  }

  const LoosePieces& loose_;
  const Context& context_;
  std::vector<FoundSuperblock> superblocks_;
  SourcePtr known_;                          // these are of what is known by now
  std::map<std::uint64_t, Volume> volumes_;  // by where they begin
  std::vector<PlaceClaim> claims_;
};

}  // namespace

std::unique_ptr<PlaceFinder> places(const LoosePieces& loose, const Context& context) {
  return std::make_unique<Search>(loose, context);
}

}  // namespace lantern::ext
