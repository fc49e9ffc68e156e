// A source from one of its bytes on, borrowed for as long as a look takes; made longer with zeros
// where a look is not to depend on where the source ends.
//
// Thread-safety: as the source's.
#pragma once

#include <algorithm>

#include "lantern/byte_source.h"

namespace lantern {

class OffsetView final : public ByteSource {
 public:
  // `from` lies inside the source.
  OffsetView(const ByteSource& inner, std::uint64_t from, std::uint64_t at_least = 0)
      : inner_(inner), from_(from), size_(std::max(inner.size() - from, at_least)) {}
  std::uint64_t size() const override { return size_; }
  std::optional<std::uint32_t> logical_sector_size() const override {
    return inner_.logical_sector_size();
  }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    ReadResult got;
    if (offset < inner_.size() - from_) got = inner_.read(from_ + offset, out);
    std::fill(out.begin() + static_cast<std::ptrdiff_t>(got.length), out.end(), std::byte{0});
    for (Range range : got.unreadable) {
      range.offset -= from_;
      unreadable.push_back(range);
    }
  }

 private:
  const ByteSource& inner_;
  std::uint64_t from_;
  std::uint64_t size_;
};

}  // namespace lantern
