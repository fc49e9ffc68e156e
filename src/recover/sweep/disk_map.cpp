#include "recover/sweep/disk_map.h"

#include <algorithm>

namespace lantern {

DiskMap::DiskMap(Range range) : range_(range), cells_(kMapCells) {}

// Without a product that could be too large.
Range DiskMap::cell(std::size_t index) const {
  const std::uint64_t whole = range_.length / kMapCells, rest = range_.length % kMapCells;
  const auto begin = [&](std::uint64_t i) {
    return range_.offset + i * whole + i * rest / kMapCells;
  };
  return {begin(index), begin(index + 1) - begin(index)};
}

void DiskMap::add(Range part, Kind kind) {
  if (kind == Kind::unreadable) unreadable_ += part.length;
  part = intersect(part, range_);
  if (part.empty()) return;
  const std::uint64_t whole = std::max<std::uint64_t>(1, range_.length / kMapCells);
  // The cell may begin a little before what the division says.
  std::size_t index = static_cast<std::size_t>(
      std::min<std::uint64_t>((part.offset - range_.offset) / whole, kMapCells - 1));
  while (index > 0 && cell(index).offset > part.offset) --index;
  for (; index < kMapCells && cell(index).offset < part.end(); ++index)
    cells_[index][static_cast<std::size_t>(kind)] += intersect(cell(index), part).length;
}

std::string DiskMap::text(std::uint64_t swept_to) const {
  std::string drawn(kMapCells, ' ');
  for (std::size_t i = 0; i < kMapCells; ++i) {
    const auto& bytes = cells_[i];
    const auto of = [&](Kind kind) { return bytes[static_cast<std::size_t>(kind)]; };
    if (of(Kind::unreadable) > 0)
      drawn[i] = 'x';
    else if (of(Kind::packed) > of(Kind::data))
      drawn[i] = '#';
    else if (of(Kind::data) > 0)
      drawn[i] = '+';
    else if (of(Kind::zero) > 0 || cell(i).end() <= swept_to)
      drawn[i] = '.';
  }
  return drawn;
}

}  // namespace lantern
