// The cache that all sources of a context share.
//
// Thread-safety: may be used from any thread.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <list>
#include <memory>
#include <mutex>
#include <unordered_map>
#include <vector>

#include "base/block_cache.h"
#include "lantern/range.h"

namespace lantern {

// Blocks of many sources under one bound in bytes, least recently used out first.
class BlockCache {
 public:
  struct Block {
    std::vector<std::byte> bytes;
    std::vector<Range> unreadable;  // offsets within the source
  };
  using BlockPtr = std::shared_ptr<const Block>;

  explicit BlockCache(std::size_t bound_bytes);

  // A number no other source of this cache has.
  std::uint64_t new_source_number();
  BlockPtr find(std::uint64_t source, std::uint64_t block_index);
  void insert(std::uint64_t source, std::uint64_t block_index, BlockPtr block);
  std::size_t held_bytes() const;

 private:
  struct Key {
    std::uint64_t source;
    std::uint64_t block;
    friend bool operator==(const Key&, const Key&) = default;
  };
  struct KeyHash {
    std::size_t operator()(const Key& key) const;
  };
  struct Slot {
    Key key;
    BlockPtr block;
  };

  mutable std::mutex mutex_;
  std::size_t bound_bytes_;
  std::size_t held_bytes_ = 0;
  std::atomic<std::uint64_t> next_source_{1};
  std::list<Slot> recent_;  // front: used last
  std::unordered_map<Key, std::list<Slot>::iterator, KeyHash> slots_;
};

}  // namespace lantern
