#include <algorithm>

#include "base/block_cache.h"
#include "lantern/sources.h"
#include "source/given.h"
#include "source/writable_source.h"

namespace lantern {
namespace {

constexpr std::uint64_t kBlockBytes = 64ull * 1024;
constexpr std::uint64_t kPassThroughBytes = 4 * kBlockBytes;

class CachedSource final : public WritableSource {
 public:
  CachedSource(SourcePtr inner, std::shared_ptr<BlockCache> cache)
      : inner_(std::move(inner)), cache_(std::move(cache)), number_(cache_->new_source_number()) {}

  std::uint64_t size() const override { return inner_->size(); }
  std::optional<std::uint32_t> logical_sector_size() const override {
    return inner_->logical_sector_size();
  }
  std::optional<std::uint32_t> physical_sector_size() const override {
    return inner_->physical_sector_size();
  }
  std::optional<std::span<const std::byte>> view(Range range) const override {
    return inner_->view(range);
  }
  std::optional<int> descriptor() const override { return inner_->descriptor(); }

  Translation translate(std::uint64_t offset, ByteView bytes) const override {
    return {{{inner_, offset, Bytes(bytes.begin(), bytes.end()), false}}, bytes.size()};
  }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    if (out.size() >= kPassThroughBytes) {
      ReadResult result = inner_->read(offset, out);
      unreadable.insert(unreadable.end(), result.unreadable.begin(), result.unreadable.end());
      return;
    }
    std::size_t done = 0;
    while (done < out.size()) {
      const std::uint64_t at = offset + done;
      const auto block = fetch(at / kBlockBytes);
      const auto skip = static_cast<std::size_t>(at % kBlockBytes);
      const std::size_t take = std::min(block->bytes.size() - skip, out.size() - done);
      std::copy_n(block->bytes.begin() + static_cast<std::ptrdiff_t>(skip), take,
                  out.begin() + static_cast<std::ptrdiff_t>(done));
      for (const Range& lost : block->unreadable) {
        const Range part = intersect(lost, {at, take});
        if (!part.empty()) unreadable.push_back(part);
      }
      done += take;
    }
  }

  bool do_extents(Range range, const ExtentVisitor& visit) const override {
    bool going = true;
    inner_->extents(range, [&](const Extent& extent) { return going = visit(extent); });
    return going;
  }

 private:
  BlockCache::BlockPtr fetch(std::uint64_t index) const {
    if (auto held = cache_->find(number_, index)) return held;
    auto block = std::make_shared<BlockCache::Block>();
    const std::uint64_t from = index * kBlockBytes;
    block->bytes.resize(static_cast<std::size_t>(std::min(kBlockBytes, inner_->size() - from)));
    block->unreadable = inner_->read(from, block->bytes).unreadable;
    cache_->insert(number_, index, block);
    return block;
  }

  SourcePtr inner_;
  std::shared_ptr<BlockCache> cache_;
  std::uint64_t number_;
};

}  // namespace

SourcePtr make_cached(SourcePtr inner, const Context& context) {
  return std::make_shared<CachedSource>(given(std::move(inner)), context.cache);
}

}  // namespace lantern
