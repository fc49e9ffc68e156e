// Formats that are recognised and not read here: by their first structures and the checks those
// carry themselves, so that nothing is written to what is not understood, and a table can name it.
//
// Thread-safety: the lists are values; their probes are pure.
#pragma once

#include <vector>

#include "base/bytes.h"
#include "lantern/format/registry.h"

namespace lantern::named {

std::vector<Format> file_systems();     // Linux and BSD
std::vector<Format> other_systems();    // of other systems, of discs and read-only ones
std::vector<Format> volume_managers();  // LVM, multi-disk arrays, pools
std::vector<Format> firmware_arrays();  // metadata that array controllers leave
std::vector<Format> encrypted();        // LUKS, BitLocker, CoreStorage, ...

// A whole structure; zeros where the source ends before it.
inline Bytes read_whole(const ByteSource& source, std::uint64_t at, std::size_t length) {
  Bytes bytes(length);
  if (source.read(at, bytes).length < length) bytes.assign(length, std::byte{0});
  return bytes;
}

// A recognition of what begins `back` bytes before the marked sector; empty when that is before the
// source does.
inline std::optional<Recognition> begins(std::uint64_t sector, std::uint64_t back,
                                         std::string title) {
  if (back > sector) return std::nullopt;
  Recognition found;
  found.title = std::move(title);
  found.range.offset = sector - back;
  return found;
}

}  // namespace lantern::named
