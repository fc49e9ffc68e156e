// A stretch of a source below as one of a source above: bytes, losses and extents at the places
// they have there. What lies past the end of the source below is unreadable.
//
// Thread-safety: as the source's.
#pragma once

#include <algorithm>
#include <cstddef>
#include <span>
#include <vector>

#include "lantern/byte_source.h"

namespace lantern {

// `out` begins at byte `from` of the source below, and at `at` of the one above.
inline void read_below(const ByteSource& below, std::uint64_t from, std::span<std::byte> out,
                       std::uint64_t at, std::vector<Range>& unreadable) {
  const ReadResult got = below.read(from, out);
  for (const Range& lost : got.unreadable)
    unreadable.push_back({at + (lost.offset - from), lost.length});
  if (got.length == out.size()) return;
  std::fill(out.begin() + static_cast<std::ptrdiff_t>(got.length), out.end(), std::byte{0});
  unreadable.push_back({at + got.length, out.size() - got.length});
}

// `part`: of the source above; it begins at byte `from` of the one below. False: the visitor
// stopped.
inline bool extents_below(const SourcePtr& below, std::uint64_t from, Range part,
                          const ExtentVisitor& visit) {
  const Range inside = intersect({from, part.length}, {0, below->size()});
  bool going = true;
  if (!inside.empty())
    below->extents(inside, [&](const Extent& inner) {
      return going = visit(inner.seen_through(below, part.offset + (inner.range.offset - from)));
    });
  if (going && inside.length < part.length)
    going = visit({ExtentKind::unreadable,
                   {part.offset + inside.length, part.length - inside.length},
                   {},
                   {}});
  return going;
}

}  // namespace lantern
