#include "recover/sweep/sweep.h"

#include <algorithm>

namespace lantern {
namespace {

// The most that stays in the second-level cache while it is looked at.
constexpr std::size_t kPiece = 256u << 10;

class Pass {
 public:
  Pass(const ByteSource& disk, Range range, std::span<Finder* const> finders,
       const Context& context)
      : disk_(disk), range_(range), finders_(finders), context_(context), next_(range.offset) {
    swept_.stopped_at = range.offset;
  }

  Swept run() {
    bool going = true;
    disk_.extents(range_, [&](const Extent& extent) {
      const bool stored = extent.kind != ExtentKind::zero &&
                          extent.kind != ExtentKind::unallocated &&
                          extent.kind != ExtentKind::unreadable;
      if (stored) going = read_run(extent.range);
      if (going) going = !cancelled();
      if (going) swept_.stopped_at = extent.range.end();
      return going;
    });
    return swept_;
  }

 private:
  bool cancelled() const {
    return context_.cancel && context_.cancel->load(std::memory_order_relaxed);
  }

  bool read_run(Range run) {
    // A hole may end within a sector; what was read already is not read again.
    std::uint64_t at = std::max(run.offset / kSector * kSector, next_);
    const std::uint64_t end = (run.end() + kSector - 1) / kSector * kSector;
    held_ = 0;
    while (at < end) {
      if (cancelled()) return false;
      // Owned up to a border that is the same wherever the pass began.
      const std::uint64_t border = ((at - held_) / kPiece + 1) * kPiece;
      const auto want = static_cast<std::size_t>(std::min(border + kLookAhead, end) - at);
      const ReadResult got = disk_.read(at, std::span(buffer_).subspan(held_, want));
      swept_.read_bytes += got.length;
      const std::uint64_t offset = at - held_;
      at = next_ = at + want;
      show(offset, held_ + got.length, border, got.unreadable, at >= end);
      if (context_.progress) context_.progress->update(next_, range_.end(), {});
    }
    return true;
  }

  // What begins near the border is shown again with what is behind it.
  void show(std::uint64_t offset, std::size_t length, std::uint64_t border,
            const std::vector<Range>& unreadable, bool last) {
    const std::size_t owned =
        last ? length : std::min(length, static_cast<std::size_t>(border - offset));
    const SweptPiece piece{offset, ByteView(buffer_).first(length), owned, unreadable};
    for (Finder* const finder : finders_) finder->look(piece);
    held_ = length - owned;
    std::copy_n(buffer_.begin() + static_cast<std::ptrdiff_t>(owned), held_, buffer_.begin());
    swept_.stopped_at = std::min(offset + owned, range_.end());
  }

  const ByteSource& disk_;
  Range range_;
  std::span<Finder* const> finders_;
  const Context& context_;
  Bytes buffer_ = Bytes(kLookAhead + kPiece);
  std::size_t held_ = 0;  // bytes at the buffer's start, read before
  std::uint64_t next_;
  Swept swept_;
};

}  // namespace

Swept sweep(const ByteSource& disk, Range range, std::span<Finder* const> finders,
            const Context& context) {
  return Pass(disk, range, finders, context).run();
}

}  // namespace lantern
