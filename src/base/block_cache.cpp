#include "base/block_cache.h"

namespace lantern {

BlockCache::BlockCache(std::size_t bound_bytes) : bound_bytes_(bound_bytes) {}

std::size_t BlockCache::KeyHash::operator()(const Key& key) const {
  // A multiplicative mix: block numbers are dense and must not collide between sources.
  return static_cast<std::size_t>((key.source * 0x9E3779B97F4A7C15ull) ^
                                  (key.block * 0xC2B2AE3D27D4EB4Full));
}

std::uint64_t BlockCache::new_source_number() {
  return next_source_.fetch_add(1);
}

BlockCache::BlockPtr BlockCache::find(std::uint64_t source, std::uint64_t block_index) {
  const std::lock_guard lock(mutex_);
  const auto found = slots_.find(Key{source, block_index});
  if (found == slots_.end()) return nullptr;
  recent_.splice(recent_.begin(), recent_, found->second);
  return found->second->block;
}

void BlockCache::insert(std::uint64_t source, std::uint64_t block_index, BlockPtr block) {
  const std::size_t bytes = block->bytes.size();
  if (bytes > bound_bytes_) return;
  const std::lock_guard lock(mutex_);
  const Key key{source, block_index};
  if (slots_.contains(key)) return;
  while (held_bytes_ + bytes > bound_bytes_ && !recent_.empty()) {
    held_bytes_ -= recent_.back().block->bytes.size();
    slots_.erase(recent_.back().key);
    recent_.pop_back();
  }
  recent_.push_front(Slot{key, std::move(block)});
  slots_.emplace(key, recent_.begin());
  held_bytes_ += bytes;
}

std::size_t BlockCache::held_bytes() const {
  const std::lock_guard lock(mutex_);
  return held_bytes_;
}

}  // namespace lantern
