#include "volume/lvm/thin.h"

#include <fmt/format.h>

#include <algorithm>
#include <mutex>
#include <optional>
#include <utility>
#include <vector>

#include "base/bytes.h"
#include "base/checked.h"
#include "base/crc32c.h"
#include "lantern/error.h"
#include "lantern/sources.h"
#include "source/pass_through.h"

namespace lantern::lvm {
namespace {

constexpr std::uint64_t kBlock = 4096;
constexpr std::uint32_t kSuperSum = 160774, kNodeSum = 121107;
constexpr std::uint64_t kMark = 27022010;
constexpr std::size_t kNodeHeader = 32;
constexpr int kMaxDepth = 16;
constexpr std::uint64_t kEnd = ~std::uint64_t{0};
constexpr std::uint64_t kMaxBlockSectors = 1u << 21;  // 1 GiB, as the kernel allows

using Entries = std::vector<std::pair<std::uint64_t, std::uint64_t>>;

// The entries of a leaf, and the keys it answers for.
struct Leaf {
  std::uint64_t from = 0, end = kEnd;
  bool lost = false;  // the metadata that would tell cannot be read
  Entries entries;
};

struct Node {
  bool leaf = false;
  Entries entries;
};

std::uint32_t sum_of_block(ByteView block, std::uint32_t with) {
  return ~crc32c(block.subspan(4)) ^ with;
}

std::optional<Node> read_node(const ByteSource& metadata, std::uint64_t block) {
  if (block >= metadata.size() / kBlock) return std::nullopt;
  Bytes bytes(kBlock);
  const ReadResult got = metadata.read(block * kBlock, bytes);
  if (got.length < bytes.size() || !got.unreadable.empty()) return std::nullopt;
  const std::uint32_t flags = le32(bytes, 4), count = le32(bytes, 16), room = le32(bytes, 20);
  const bool right = sum_of_block(bytes, kNodeSum) == le32(bytes, 0);
  if (!right || le64(bytes, 8) != block || count > room || le32(bytes, 24) != 8 ||
      room > (kBlock - kNodeHeader) / 16)
    return std::nullopt;
  Node node;
  node.leaf = (flags & 2) != 0;
  for (std::size_t i = 0; i < count; ++i)
    node.entries.emplace_back(le64(bytes, kNodeHeader + 8 * i),
                              le64(bytes, kNodeHeader + 8 * (std::size_t{room} + i)));
  return node;
}

// The leaf of a tree that answers for `key`.
Leaf find_leaf(const ByteSource& metadata, std::uint64_t root, std::uint64_t key) {
  Leaf leaf;
  std::uint64_t block = root;
  for (int depth = 0; depth < kMaxDepth; ++depth) {
    auto node = read_node(metadata, block);
    if (!node) break;
    if (node->leaf) {
      leaf.entries = std::move(node->entries);
      return leaf;
    }
    const auto after = std::upper_bound(
        node->entries.begin(), node->entries.end(), key,
        [](std::uint64_t wanted, const auto& entry) { return wanted < entry.first; });
    if (after != node->entries.end()) leaf.end = std::min(leaf.end, after->first);
    if (after == node->entries.begin()) return leaf;  // before the first: none
    leaf.from = std::max(leaf.from, std::prev(after)->first);
    block = std::prev(after)->second;
  }
  leaf.lost = true;
  return leaf;
}

class ThinSource final : public ByteSource {
 public:
  ThinSource(SourcePtr metadata, SourcePtr data, SourcePtr origin, std::uint64_t root,
             std::uint64_t block_bytes, std::uint64_t size_bytes)
      : metadata_(std::move(metadata)),
        data_(std::move(data)),
        origin_(std::move(origin)),
        root_(root),
        block_bytes_(block_bytes),
        size_(size_bytes) {}

  std::uint64_t size() const override { return size_; }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    for_each_run({offset, out.size()}, [&](ExtentKind kind, Range part, const ExtentInput& below) {
      const auto target = out.subspan(static_cast<std::size_t>(part.offset - offset),
                                      static_cast<std::size_t>(part.length));
      if (below.source) {
        read_below(*below.source, below.offset, target, part.offset, unreadable);
        return true;
      }
      std::fill(target.begin(), target.end(), std::byte{0});
      if (kind == ExtentKind::unreadable) unreadable.push_back(part);
      return true;
    });
  }

  bool do_extents(Range range, const ExtentVisitor& visit) const override {
    bool going = true;
    for_each_run(range, [&](ExtentKind kind, Range part, const ExtentInput& below) {
      return going = below.source ? extents_below(below.source, below.offset, part, visit)
                                  : visit({kind, part, {}, {}});
    });
    return going;
  }

 private:
  // visit(kind, part of this, where it is) until it answers false. Of what has no block `below` is
  // the origin, or empty.
  template <typename Visit>
  void for_each_run(Range range, Visit visit) const {
    Leaf leaf;
    leaf.end = 0;
    for (std::uint64_t at = range.offset; at < range.end();) {
      const std::uint64_t block = at / block_bytes_;
      if (block >= leaf.end || block < leaf.from) leaf = leaf_of(block);
      const auto entry = std::lower_bound(
          leaf.entries.begin(), leaf.entries.end(), block,
          [](const auto& one, std::uint64_t wanted) { return one.first < wanted; });
      const bool mapped = entry != leaf.entries.end() && entry->first == block;
      std::uint64_t end_block = leaf.end;
      if (mapped)
        end_block = block + 1;
      else if (entry != leaf.entries.end())
        end_block = std::min(end_block, entry->first);
      const std::uint64_t length =
          std::min(saturating_mul(end_block, block_bytes_), range.end()) - at;
      if (!visit_run(leaf, mapped ? &entry->second : nullptr, {at, length}, visit)) return;
      at += length;
    }
  }

  template <typename Visit>
  bool visit_run(const Leaf& leaf, const std::uint64_t* mapped, Range part, Visit& visit) const {
    if (leaf.lost) return visit(ExtentKind::unreadable, part, ExtentInput());
    if (mapped == nullptr)
      return visit(ExtentKind::unallocated, part,
                   origin_ ? ExtentInput{origin_, part.offset} : ExtentInput());
    const auto from = checked_mul(*mapped >> 24, block_bytes_);
    if (!from || *from >= data_->size()) return visit(ExtentKind::unreadable, part, ExtentInput());
    return visit(ExtentKind::direct, part, {data_, *from + part.offset % block_bytes_});
  }

  // The last one asked for is kept: reads go on where they stopped.
  Leaf leaf_of(std::uint64_t block) const {
    {
      const std::lock_guard lock(mutex_);
      if (block >= last_.from && block < last_.end) return last_;
    }
    Leaf leaf = find_leaf(*metadata_, root_, block);
    const std::lock_guard lock(mutex_);
    last_ = leaf;
    return leaf;
  }

  SourcePtr metadata_, data_, origin_;
  std::uint64_t root_, block_bytes_, size_;
  mutable std::mutex mutex_;
  mutable Leaf last_{1, 0, false, {}};
};

}  // namespace

SourcePtr open_thin(const ThinPool& pool, std::uint64_t device, std::uint64_t size_bytes,
                    const SourcePtr& origin, const Context& context) {
  const auto fail = [](const std::string& what) {
    return Error(ErrorCode::cannot_read, {}, 0, what, "look at the pool's metadata volume");
  };
  const SourcePtr metadata = make_cached(pool.metadata, context);
  Bytes super(kBlock);
  if (metadata->read(0, super).length < super.size() || le64(super, 32) != kMark)
    throw fail("the metadata of the thin pool are lost");
  if (sum_of_block(super, kSuperSum) != le32(super, 0))
    context.report(FindingCode::lvm_thin, Severity::damage, {0, kBlock},
                   "the first block of the thin pool's metadata has a wrong checksum",
                   "its figures are used as they are");
  const std::uint64_t sectors = le32(super, 336);
  if (sectors == 0 || sectors > kMaxBlockSectors)
    throw fail(fmt::format("invalid block size in the thin pool's metadata: {} sectors", sectors));
  const Leaf devices = find_leaf(*metadata, le64(super, 320), device);
  const auto found = std::find_if(devices.entries.begin(), devices.entries.end(),
                                  [&](const auto& entry) { return entry.first == device; });
  if (devices.lost) throw fail("the tree of the thin pool's volumes is damaged");
  // A volume in which nothing was written yet may have no tree.
  if (found == devices.entries.end())
    throw fail(fmt::format("the thin pool's metadata have no volume {}", device));
  return std::make_shared<ThinSource>(metadata, pool.data, origin, found->second, sectors * kSector,
                                      size_bytes);
}

}  // namespace lantern::lvm
