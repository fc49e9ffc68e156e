#include "lantern/byte_source.h"

#include <algorithm>

namespace lantern {

const ExtentInput& Extent::below() const {
  static const ExtentInput kNone;
  return inputs.empty() ? kNone : inputs.front();
}

Extent Extent::seen_through(const SourcePtr& source, std::uint64_t offset) const {
  Extent above{kind, {offset, range.length}, {}, how};
  if (kind == ExtentKind::direct)
    above.inputs.push_back({source, range.offset});
  else
    above.inputs = inputs;
  return above;
}

ReadResult ByteSource::read(std::uint64_t offset, std::span<std::byte> out) const {
  ReadResult result;
  const std::uint64_t whole = size();
  if (offset >= whole || out.empty()) return result;
  result.length = static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), whole - offset));
  do_read(offset, out.first(result.length), result.unreadable);
  return result;
}

ReadResult ByteSource::read_until_trouble(std::uint64_t offset, std::span<std::byte> out) const {
  ReadResult result;
  const std::uint64_t whole = size();
  if (offset >= whole || out.empty()) return result;
  result.length = static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), whole - offset));
  do_read_until_trouble(offset, out.first(result.length), result.unreadable);
  if (result.unreadable.empty()) return result;
  const std::uint64_t from = result.unreadable.front().offset;
  const auto good = static_cast<std::size_t>(from - offset);
  std::fill(out.begin() + static_cast<std::ptrdiff_t>(good),
            out.begin() + static_cast<std::ptrdiff_t>(result.length), std::byte{0});
  result.unreadable = {{from, result.length - good}};
  return result;
}

void ByteSource::do_read_until_trouble(std::uint64_t offset, std::span<std::byte> out,
                                       std::vector<Range>& unreadable) const {
  do_read(offset, out, unreadable);
}

void ByteSource::extents(Range range, const ExtentVisitor& visit) const {
  const Range inside = intersect(range, {0, size()});
  if (!inside.empty()) do_extents(inside, visit);
}

std::optional<std::span<const std::byte>> ByteSource::view(Range) const {
  return std::nullopt;
}

bool ByteSource::do_extents(Range range, const ExtentVisitor& visit) const {
  return visit({ExtentKind::direct, range, {}, {}});
}

bool known_zero(const ByteSource& source, Range range) {
  bool zero = true;
  source.extents(range, [&](const Extent& extent) {
    zero = extent.kind == ExtentKind::zero || extent.kind == ExtentKind::unallocated;
    return zero;
  });
  return zero;
}

}  // namespace lantern
