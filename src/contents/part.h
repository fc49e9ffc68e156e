// A part of a content that is looked at as a content of its own.
//
// Thread-safety: as the source.
#pragma once

#include "lantern/byte_source.h"

namespace lantern::kinds {

class Part final : public ByteSource {
 public:
  // `range`: of `whole`, which must live longer.
  Part(const ByteSource& whole, Range range)
      : whole_(whole), range_(intersect(range, {0, whole.size()})) {}

  std::uint64_t size() const override { return range_.length; }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out,
               std::vector<Range>& unreadable) const override {
    for (Range lost : whole_.read(range_.offset + offset, out).unreadable) {
      lost.offset -= range_.offset;
      unreadable.push_back(lost);
    }
  }

 private:
  const ByteSource& whole_;
  Range range_;
};

}  // namespace lantern::kinds
