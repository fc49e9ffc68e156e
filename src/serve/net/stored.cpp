#include "serve/net/stored.h"

#include <algorithm>

namespace lantern::net {
namespace {

constexpr int kMaxLayers = 64;

std::optional<Extent> first_extent(const ByteSource& source, Range range) {
  std::optional<Extent> first;
  source.extents(range, [&](const Extent& extent) {
    first = extent;
    return false;
  });
  return first && first->kind == ExtentKind::direct ? first : std::nullopt;
}

}  // namespace

std::optional<Stored> stored_at(const ByteSource& content, Range range) {
  const ByteSource* source = &content;
  SourcePtr below;
  for (int layer = 0; layer < kMaxLayers; ++layer) {
    const auto extent = first_extent(*source, range);
    if (!extent) return std::nullopt;
    range.length = std::min(range.length, extent->range.length);
    if (extent->inputs.empty()) {
      const std::optional<int> file = source->descriptor();
      return file ? std::optional(Stored{*file, range}) : std::nullopt;
    }
    below = extent->below().source;
    source = below.get();
    range.offset = extent->below().offset;
  }
  return std::nullopt;
}

}  // namespace lantern::net
