#include "recover/sweep/sweep.h"

#include <algorithm>

namespace lantern {
namespace {

// The most that stays in the second-level cache while it is looked at.
constexpr std::size_t kPiece = 256u << 10;

}  // namespace

Swept sweep(const ByteSource& disk, Range range, std::span<Finder* const> finders,
            const Context& context) {
  Swept swept;
  swept.stopped_at = range.offset;
  Bytes buffer(kPiece);
  const auto cancelled = [&] {
    return context.cancel && context.cancel->load(std::memory_order_relaxed);
  };
  std::uint64_t next = range.offset;
  const auto read_run = [&](Range run) {
    // A hole may end within a sector; what was read already is not read again.
    std::uint64_t at = std::max(run.offset / kSector * kSector, next);
    for (; at < run.end(); at += kPiece) {
      if (cancelled()) return false;
      const auto want = static_cast<std::size_t>(
          std::min<std::uint64_t>(kPiece, (run.end() - at + kSector - 1) / kSector * kSector));
      const std::size_t got = disk.read(at, std::span(buffer).first(want)).length;
      swept.read_bytes += got;
      for (Finder* const finder : finders) finder->look(at, ByteView(buffer).first(got));
      next = at + want;
      swept.stopped_at = std::min(next, range.end());
      if (context.progress) context.progress->update(next, range.end(), {});
    }
    return true;
  };
  bool going = true;
  disk.extents(range, [&](const Extent& extent) {
    const bool stored = extent.kind != ExtentKind::zero && extent.kind != ExtentKind::unallocated &&
                        extent.kind != ExtentKind::unreadable;
    if (stored) going = read_run(extent.range);
    if (going) going = !cancelled();
    if (going) swept.stopped_at = extent.range.end();
    return going;
  });
  return swept;
}

}  // namespace lantern
