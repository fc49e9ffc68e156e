#include "source/data_sectors.h"

#include <algorithm>

#include "base/bytes.h"
#include "source/given.h"

namespace lantern {
namespace {

constexpr std::uint64_t kSmall = 512, kLarge = 4096;  // bytes of data
constexpr std::uint64_t kMaxSmallExtra = 16, kMaxLargeExtra = 128;
constexpr std::uint64_t kSectorsAtOnce = 2048;

class DataSectors final : public ByteSource {
 public:
  DataSectors(SourcePtr inner, std::uint64_t stored)
      : inner_(std::move(inner)), stored_(stored), data_(stored < kLarge ? kSmall : kLarge) {}

  std::uint64_t size() const override { return inner_->size() / stored_ * data_; }
  std::optional<std::uint32_t> logical_sector_size() const override {
    return static_cast<std::uint32_t>(data_);
  }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    const Range wanted{offset, out.size()};
    Bytes piece;
    for (std::uint64_t sector = offset / data_; sector * data_ < wanted.end();) {
      const std::uint64_t last = (wanted.end() - 1) / data_ + 1;
      const std::uint64_t count = std::min(last - sector, kSectorsAtOnce);
      piece.resize(static_cast<std::size_t>(count * stored_));
      const ReadResult got = inner_->read(sector * stored_, piece);
      for (std::uint64_t i = 0; i < count; ++i) {
        const Range part = intersect({(sector + i) * data_, data_}, wanted);
        const std::uint64_t skip = part.offset - (sector + i) * data_;
        std::copy_n(piece.begin() + static_cast<std::ptrdiff_t>(i * stored_ + skip), part.length,
                    out.begin() + static_cast<std::ptrdiff_t>(part.offset - offset));
      }
      for (const Range& lost : got.unreadable)
        if (const Range part = intersect(data_of(lost), wanted); !part.empty())
          unreadable.push_back(part);
      sector += count;
    }
  }

  // What is lost below is lost here; the rest is made of sectors.
  bool do_extents(Range range, const ExtentVisitor& visit) const override {
    const std::uint64_t first = range.offset / data_, last = (range.end() - 1) / data_ + 1;
    bool going = true;
    std::uint64_t at = range.offset;
    const auto pass = [&](ExtentKind kind, std::uint64_t to) {
      if (to <= at) return;
      Extent extent{kind, {at, to - at}, {}, {}};
      if (kind == ExtentKind::derived) {
        extent.inputs = {{inner_, at / data_ * stored_ + at % data_}};
        extent.how = "the data of larger sectors";
      }
      at = to;
      going = visit(extent);
    };
    inner_->extents({first * stored_, (last - first) * stored_}, [&](const Extent& inner) {
      if (inner.kind != ExtentKind::unreadable) return true;
      const Range lost = intersect(data_of(inner.range), range);
      if (going) pass(ExtentKind::derived, lost.offset);
      if (going) pass(ExtentKind::unreadable, lost.end());
      return going;
    });
    if (going) pass(ExtentKind::derived, range.end());
    return going;
  }

 private:
  // The data of the sectors that a stretch of the stored bytes touches.
  Range data_of(Range stored) const {
    const std::uint64_t first = stored.offset / stored_;
    const std::uint64_t last = (stored.end() + stored_ - 1) / stored_;
    return {first * data_, (last - first) * data_};
  }

  SourcePtr inner_;
  std::uint64_t stored_, data_;
};

}  // namespace

bool has_data_sectors(std::uint64_t stored_bytes) {
  return (stored_bytes > kSmall && stored_bytes <= kSmall + kMaxSmallExtra) ||
         (stored_bytes > kLarge && stored_bytes <= kLarge + kMaxLargeExtra);
}

SourcePtr make_data_sectors(SourcePtr inner, std::uint64_t stored_bytes) {
  return std::make_shared<DataSectors>(given(std::move(inner)), stored_bytes);
}

}  // namespace lantern
