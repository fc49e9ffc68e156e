// What every target does with a disk: read its start, its end and some of its middle, and walk its
// extents, within bounds. A fault is a crash, a sanitizer's word, or an exception that is no Error.
#pragma once

#include <algorithm>

#include "lantern/container.h"
#include "lantern/error.h"
#include "lantern/sources.h"

namespace lantern::fuzz {

inline SourcePtr source_of(const std::uint8_t* data, std::size_t size) {
  const auto bytes = std::as_bytes(std::span(data, size));
  return make_memory_source({bytes.begin(), bytes.end()});
}

inline void read_some(const ByteSource& disk) {
  std::vector<std::byte> piece(64u << 10);
  const std::uint64_t size = disk.size();
  for (const std::uint64_t at :
       {std::uint64_t{0}, size / 3, size - std::min<std::uint64_t>(size, 512)})
    disk.read(at, piece);
  std::size_t seen = 0;
  disk.extents({0, size}, [&](const Extent&) { return ++seen < 1000; });
}

// `open` answers whether there is such a container.
template <typename Open>
int container(const std::uint8_t* data, std::size_t size, Open open) {
  Context context;
  context.threads = 1;
  try {
    const std::optional<Container> found = open(source_of(data, size), Surroundings{}, context);
    if (!found) return 0;
    read_some(*found->flat);
    for (std::size_t i = 0; i < std::min<std::size_t>(found->versions.size(), 4); ++i)
      if (const SourcePtr then = found->open_version(found->versions[i].id)) read_some(*then);
  } catch (const Error&) {
    // One clear line is an answer.
  }
  return 0;
}

}  // namespace lantern::fuzz
