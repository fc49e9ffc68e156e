// Search: entries of a volume by name, size, time, kind of content and what is left of them.
//
//   SearchOptions pictures;
//   pictures.patterns = {"*.jpg"};
//   search(target, pictures, [](const Entry& each) {
//     use(each);
//     return true;
//   });
//
// Thread-safety: may be called from any thread.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "lantern/nest/session.h"

namespace lantern {

struct SearchOptions {
  std::vector<std::string> patterns;  // shell patterns as of extraction; none: every name
  std::string expression;             // POSIX extended regular expression of the path; any case
  std::optional<std::uint64_t> least_bytes;
  std::optional<std::uint64_t> most_bytes;
  std::optional<std::int64_t> modified_from;  // seconds since 1970, as the disk keeps them
  std::optional<std::int64_t> modified_to;    // the first that is too late
  // Of content ("jpg", "picture", "sqlite", ...) or of entry ("folder", "link"); none: every
  std::vector<std::string> kinds;
  bool active = true;
  bool deleted = false;
  // Only files of which a part is not in the source: its place was not read, or is missing.
  bool touches_unreadable = false;
  WalkOrder order = WalkOrder::as_stored;
  double least_intact = 0;  // 0 to 1; entries of which it is not known count as 0
};

// Visits the entries that answer to all of it. Return false to stop. Throws Error{usage} for an
// expression that is not valid and a kind there is not.
void search(const Target& target, const SearchOptions& options,
            const std::function<bool(const Entry&)>& visit);

}  // namespace lantern
