// What every target does with a disk: read its start, its end and some of its middle, and walk its
// extents, within bounds. A fault is a crash, a sanitizer's word, or an exception that is no Error.
#pragma once

#include <algorithm>

#include "lantern/container.h"
#include "lantern/error.h"
#include "lantern/file_system.h"
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

// A whole volume: what it lists, what was deleted from it, what is read of each file. `open`
// answers with its file system, or with nothing.
template <typename Open>
int volume(const std::uint8_t* data, std::size_t size, Open open) {
  Context context;
  context.budget.max_entries = 2000;
  context.budget.max_depth = 64;
  try {
    const std::shared_ptr<const FileSystem> files = open(source_of(data, size), {}, context);
    if (!files) return 0;
    files->used_bytes();
    WalkOptions all;
    all.deleted = true;
    std::size_t opened = 0;
    files->walk(all, [&](const Entry& entry) {
      if (++opened > 200) return WalkStep::stop;
      files->attributes(entry);
      files->streams(entry);
      if (entry.kind == EntryKind::file || entry.kind == EntryKind::symlink) {
        try {
          read_some(*files->open(entry).bytes);
        } catch (const Error&) {
          // Encrypted: one clear line.
        }
      }
      return WalkStep::go_on;
    });
    files->find({"folder", "file"}, NameRule::any_case);
    files->allocation({0, size}, [](Range, bool) { return true; });
  } catch (const Error&) {
    // One clear line is an answer.
  }
  return 0;
}

}  // namespace lantern::fuzz
