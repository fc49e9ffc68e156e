#include "filesystem/ntfs/packing/unit_source.h"

#include <algorithm>

#include "base/block_cache.h"

namespace lantern::ntfs {
namespace {

class UnitSource final : public ByteSource {
 public:
  UnitSource(Units units, const Context& context)
      : units_(std::move(units)),
        cache_(context.cache),
        number_(context.cache->new_source_number()) {}

  std::uint64_t size() const override { return units_.size_bytes; }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    const Range wanted{offset, out.size()};
    while (!out.empty()) {
      const std::uint64_t number = offset / units_.unit_bytes;
      const BlockCache::BlockPtr unit = unit_at(number);
      const auto within = static_cast<std::size_t>(offset % units_.unit_bytes);
      const std::size_t here = std::min(out.size(), unit->bytes.size() - within);
      std::copy_n(unit->bytes.begin() + static_cast<std::ptrdiff_t>(within), here, out.begin());
      for (const Range& lost : unit->unreadable)
        if (const Range part = intersect(lost, wanted); !part.empty()) unreadable.push_back(part);
      out = out.subspan(here);
      offset += here;
    }
  }

  bool do_extents(Range range, const ExtentVisitor& visit) const override {
    // What is known of whole stretches is not asked unit by unit.
    auto next = std::partition_point(
        units_.known.begin(), units_.known.end(),
        [&](const Units::Known& known) { return known.range.end() <= range.offset; });
    for (std::uint64_t at = range.offset; at < range.end();) {
      const bool none = next == units_.known.end();
      const bool inside = !none && next->range.offset <= at;
      const std::uint64_t to = std::min(range.end(), none     ? range.end()
                                                     : inside ? next->range.end()
                                                              : next->range.offset);
      const ExtentKind kind = inside ? next->kind : ExtentKind::derived;
      if (!visit({kind, {at, to - at}, {}, inside ? std::string() : units_.how})) return false;
      at = to;
      if (inside) ++next;
    }
    return true;
  }

 private:
  BlockCache::BlockPtr unit_at(std::uint64_t number) const {
    if (auto known = cache_->find(number_, number)) return known;
    auto unit = std::make_shared<BlockCache::Block>();
    const std::uint64_t at = number * units_.unit_bytes;
    unit->bytes.resize(
        static_cast<std::size_t>(std::min(units_.unit_bytes, units_.size_bytes - at)));
    units_.unpack(number, unit->bytes, unit->unreadable);
    cache_->insert(number_, number, unit);
    return unit;
  }

  Units units_;
  std::shared_ptr<BlockCache> cache_;
  std::uint64_t number_;
};

}  // namespace

SourcePtr make_units(Units units, const Context& context) {
  return std::make_shared<UnitSource>(std::move(units), context);
}

}  // namespace lantern::ntfs
