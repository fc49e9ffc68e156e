// The file allocation table: one entry a cluster, 12, 16 or 32 bits (28 used), little-endian.
//   0: free    2 to count+1: next cluster    ..F7: bad    ..F8 to ..FF: last of its chain
//   anything else: damage, the other copy is asked
// Microsoft FAT specification (fatgen103). Where the copies differ, each group of 128 entries is
// taken from the copy that makes sense; a cluster in use in either copy counts as in use.
//
// Thread-safety: Table may be used from any thread; a Cursor belongs to one.
#pragma once

#include <cstdint>
#include <memory>
#include <vector>

#include "base/block_cache.h"
#include "filesystem/fat/boot_sector.h"
#include "lantern/context.h"

namespace lantern::fat {

enum class Link { free, next, last, bad, invalid };

struct ClusterRun {
  std::uint32_t first = 0;
  std::uint32_t count = 0;
  friend bool operator==(const ClusterRun&, const ClusterRun&) = default;
};

struct Chain {
  enum class End { whole, loop, broken };
  std::vector<ClusterRun> runs;
  std::uint64_t clusters = 0;
  End end = End::whole;
  std::uint32_t last_cluster = 0;  // where it stopped
};

class Table {
 public:
  Table(SourcePtr volume, const Geometry& geometry, const Context& context);

  class Cursor {
   public:
    explicit Cursor(const Table& table) : table_(&table) {}
    // What the entry of `cluster` (valid) says; `next` is set for Link::next.
    Link link(std::uint32_t cluster, std::uint32_t& next);
    bool in_use(std::uint32_t cluster);

   private:
    std::uint32_t raw(std::uint32_t cluster);
    const Table* table_;
    std::uint64_t page_index_ = ~std::uint64_t{0};
    BlockCache::BlockPtr page_;
  };

  // At most `most` clusters from `first` on. A loop ends before the first cluster met again.
  Chain chain(Cursor& cursor, std::uint32_t first, std::uint64_t most) const;

  // Clusters in use, the unusable ones too; reads the whole table.
  std::uint64_t count_in_use() const;

  // Byte offset in the volume of a cluster's entry in the first table.
  std::uint64_t entry_offset(std::uint32_t cluster) const;

 private:
  // What sets the two copies of a group apart.
  struct Difference {
    std::size_t entries = 0;
    std::size_t bad_kept = 0;
    std::size_t bad_other = 0;
    std::uint32_t first_kept = 0;
    std::uint32_t first_other = 0;
    bool uniform_kept = true;
    bool uniform_other = true;
    void add(std::uint32_t kept, std::uint32_t other, const Table& table);
    // 1: the other copy, -1: the one kept so far, 0: neither stands out.
    int preferred() const;
  };

  BlockCache::BlockPtr page(std::uint64_t index) const;
  std::vector<std::uint32_t> decode(std::uint32_t copy, std::uint64_t first,
                                    std::size_t count) const;
  Link classify(std::uint32_t value) const;
  void merge(std::uint64_t first, std::vector<std::uint32_t>& kept,
             const std::vector<std::uint32_t>& other) const;

  SourcePtr volume_;
  Geometry geometry_;
  Context context_;
  std::uint64_t number_;
  std::uint32_t top_;  // the largest value of an entry: 0xFFF, 0xFFFF, 0x0FFFFFFF
};

}  // namespace lantern::fat
