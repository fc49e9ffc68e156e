#include "filesystem/ext/block_map.h"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_set>

#include "base/checked.h"
#include "base/crc32c.h"

namespace lantern::ext {
namespace {

constexpr std::size_t kNodeHead = 12;
constexpr std::size_t kNodeEntry = 12;
constexpr std::uint16_t kMaxDepth = 5;
constexpr std::uint16_t kLongestWritten = 32768;
constexpr std::uint64_t kMaxRuns = 16u << 20;
constexpr std::uint64_t kBlockNumbers = 1ull << 32;  // a file has no more blocks

class Mapper {
 public:
  Mapper(const Volume& volume, const Inode& inode, const ReadNode& read_node, bool report)
      : volume_(volume), inode_(inode), read_node_(read_node), report_(report) {}

  BlockMap run() {
    if (inode_.has(kInExtents))
      extent_node(inode_.map, {0, kBlockNumbers}, std::nullopt);
    else
      block_numbers();
    put_in_order();
    return std::move(map_);
  }

 private:
  void lose(Range blocks, std::uint64_t at_block, const char* what) {
    map_.lost.push_back(blocks);
    if (!report_) return;
    const auto place = at_block != 0
                           ? Range{volume_.block_place(at_block), volume_.super.block_bytes}
                           : volume_.inode_place(inode_.number).value_or(Range{});
    volume_.context.report(FindingCode::ext_block_map, Severity::damage, place,
                           fmt::format("the block map of inode {}: {}", inode_.number, what),
                           "what it leads to is treated as unreadable");
  }

  // Whether bytes are a node of this tree, at most `depth` levels from its leaves.
  bool is_node(ByteView bytes, std::uint16_t depth) const {
    if (le16(bytes, 0) != 0xF30A || le16(bytes, 6) != depth) return false;
    const std::size_t room = (bytes.size() - kNodeHead) / kNodeEntry;
    const std::size_t most = le16(bytes, 4);
    if (most > room || le16(bytes, 2) > most) return false;
    if (bytes.size() <= inode_.map.size() || !volume_.super.has(kMetadataSums)) return true;
    const std::size_t tail = kNodeHead + most * kNodeEntry;
    if (tail + 4 > bytes.size()) return false;
    return crc32c_chain(checksum_seed(volume_.super, inode_.number, inode_.generation),
                        bytes.first(tail)) == le32(bytes, tail);
  }

  // `range`: the blocks of the file this node may speak of.
  void extent_node(ByteView node, Range range, std::optional<std::uint16_t> depth_wanted) {
    const std::uint16_t depth = le16(node, 6);
    if (le16(node, 0) != 0xF30A || depth > kMaxDepth || (depth_wanted && depth != *depth_wanted) ||
        kNodeHead + std::size_t{le16(node, 2)} * kNodeEntry > node.size())
      return lose(range, 0, "an extent tree node is invalid");
    const std::size_t count = le16(node, 2);
    for (std::size_t i = 0; i < count; ++i) {
      const std::size_t at = kNodeHead + i * kNodeEntry;
      const std::uint64_t first = le32(node, at);
      const std::uint64_t next = i + 1 < count ? le32(node, at + kNodeEntry) : range.end();
      if (first < range.offset || first >= range.end() || next <= first) {
        lose({range.offset, range.length}, 0, "its entries are out of order");
        return;
      }
      if (depth == 0)
        extent(node, at, first, next);
      else
        child(node, at, {first, std::min(next, range.end()) - first}, depth);
    }
  }

  void extent(ByteView node, std::size_t at, std::uint64_t first, std::uint64_t next) {
    std::uint64_t count = le16(node, at + 4);
    BlockRun run;
    run.unwritten = count > kLongestWritten;
    if (run.unwritten) count -= kLongestWritten;
    run.logical = first;
    run.physical = le32(node, at + 8) | std::uint64_t{le16(node, at + 6)} << 32;
    run.count = std::min(count, next - first);
    if (count == 0) return;
    if (!volume_.valid_block(run.physical) || !volume_.valid_block(run.physical + run.count - 1))
      return lose({first, run.count}, 0, "an extent is outside the volume");
    add(run);
  }

  void child(ByteView node, std::size_t at, Range range, std::uint16_t depth) {
    const std::uint64_t block = le32(node, at + 4) | std::uint64_t{le16(node, at + 8)} << 32;
    Bytes bytes(volume_.super.block_bytes);
    if (!seen_.insert(block).second) return lose(range, 0, "it comes back to itself");
    const auto right = [&](ByteView found) {
      return is_node(found, static_cast<std::uint16_t>(depth - 1));
    };
    if (!volume_.valid_block(block) || !read_node_(block, range, right, bytes))
      return lose(range, volume_.valid_block(block) ? block : 0, "a node cannot be");
    extent_node(bytes, range, static_cast<std::uint16_t>(depth - 1));
  }

  void block_numbers() {
    constexpr std::size_t kDirect = 12;
    blocks_ = divide_up(inode_.size_bytes, volume_.super.block_bytes);
    for (std::size_t i = 0; i < kDirect && next_ < blocks_; ++i) number(le32(inode_.map, i * 4), 0);
    for (std::size_t level = 1; level <= 3 && next_ < blocks_; ++level)
      number(le32(inode_.map, (kDirect + level - 1) * 4), static_cast<unsigned>(level));
  }

  std::uint64_t span_of(unsigned level) const {
    std::uint64_t span = 1;
    for (unsigned i = 0; i < level; ++i) span *= volume_.super.block_bytes / 4;
    return span;
  }

  // A number of the older map, `level` blocks of numbers above the content.
  void number(std::uint64_t block, unsigned level) {
    const std::uint64_t span = std::min(span_of(level), blocks_ - next_);
    const std::uint64_t first = next_;
    if (block == 0) {
      next_ += span;
      return;
    }
    if (!volume_.valid_block(block)) {
      next_ += span;
      return lose({first, span}, 0, "a block is outside the volume");
    }
    if (level == 0) {
      add({first, block, 1, false});
      ++next_;
      return;
    }
    Bytes bytes(volume_.super.block_bytes);
    const bool fresh = seen_.insert(block).second;
    const auto right = [&](ByteView found) { return are_numbers(found); };
    if (!fresh || !read_node_(block, {first, span}, right, bytes)) {
      next_ += span;
      return lose({first, span}, block,
                  fresh ? "a block of numbers cannot be" : "it comes back to itself");
    }
    for (std::size_t at = 0; at < bytes.size() && next_ < blocks_; at += 4)
      number(le32(bytes, at), level - 1);
  }

  bool are_numbers(ByteView block) const {
    for (std::size_t at = 0; at < block.size(); at += 4)
      if (le32(block, at) != 0 && !volume_.valid_block(le32(block, at))) return false;
    return true;
  }

  void add(const BlockRun& run) {
    // No file has more blocks than the volume: maps that lead to the same ones again and again end.
    mapped_ += run.here(volume_);
    if (mapped_ > volume_.there_bytes / volume_.super.block_bytes) {
      if (map_.lost.empty() || map_.lost.back().end() != run.logical)
        lose({run.logical, run.count}, 0, "it maps more blocks than there are");
      else
        map_.lost.back().length += run.count;
      return;
    }
    if (!map_.runs.empty()) {
      BlockRun& last = map_.runs.back();
      if (last.logical + last.count == run.logical && last.physical + last.count == run.physical &&
          last.unwritten == run.unwritten) {
        last.count += run.count;
        return;
      }
    }
    if (map_.runs.size() < kMaxRuns)
      map_.runs.push_back(run);
    else
      map_.lost.push_back({run.logical, run.count});
  }

  void put_in_order() {
    std::sort(map_.lost.begin(), map_.lost.end(),
              [](const Range& a, const Range& b) { return a.offset < b.offset; });
  }

  const Volume& volume_;
  const Inode& inode_;
  const ReadNode& read_node_;
  bool report_;
  BlockMap map_;
  std::unordered_set<std::uint64_t> seen_;
  std::uint64_t blocks_ = 0;  // of the file, in the older map
  std::uint64_t next_ = 0;
  std::uint64_t mapped_ = 0;
};

}  // namespace

BlockMap map_blocks(const Volume& volume, const Inode& inode) {
  const ReadNode read_node = [&](std::uint64_t block, Range /*of*/,
                                 const std::function<bool(ByteView)>& right, Bytes& out) {
    return volume.read_block(block, out) && right(out);
  };
  return Mapper(volume, inode, read_node, true).run();
}

BlockMap map_blocks(const Volume& volume, const Inode& inode, const ReadNode& read_node) {
  return Mapper(volume, inode, read_node, false).run();
}

}  // namespace lantern::ext
