#include <algorithm>

#include "lantern/sources.h"

namespace lantern {
namespace {

class MemorySource final : public ByteSource {
 public:
  explicit MemorySource(std::vector<std::byte> bytes) : bytes_(std::move(bytes)) {}

  std::uint64_t size() const override { return bytes_.size(); }

  std::optional<std::span<const std::byte>> view(Range range) const override {
    const Range inside = intersect(range, {0, bytes_.size()});
    if (inside != range) return std::nullopt;
    return std::span(bytes_).subspan(static_cast<std::size_t>(range.offset),
                                     static_cast<std::size_t>(range.length));
  }

 protected:
  void do_read(std::uint64_t offset, std::span<std::byte> out, std::vector<Range>&) const override {
    const auto from = bytes_.begin() + static_cast<std::ptrdiff_t>(offset);
    std::copy_n(from, out.size(), out.begin());
  }

 private:
  std::vector<std::byte> bytes_;
};

}  // namespace

SourcePtr make_memory_source(std::vector<std::byte> bytes) {
  return std::make_shared<MemorySource>(std::move(bytes));
}

}  // namespace lantern
