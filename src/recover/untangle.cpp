#include "recover/untangle.h"

#include <algorithm>

#include "recover/file_copy.h"

namespace lantern {
namespace {

// From the first byte on that is not where the entry's own rule has it, or is in doubt already, all
// is in doubt.
void doubt_from(Content& content, std::uint64_t from, std::uint64_t size_bytes) {
  std::vector<Range> doubtful;
  std::uint64_t at = from;
  for (const Range& lost : content.lost) {
    if (lost.end() <= at) continue;
    if (lost.offset > at) doubtful.push_back({at, lost.offset - at});
    at = lost.end();
  }
  if (at < size_bytes) doubtful.push_back({at, size_bytes - at});
  content.doubtful = std::move(doubtful);
}

}  // namespace

Content Untangler::open(const Entry& entry, const std::string& stream) {
  Content plain = files_.open(entry, stream);
  if (!stream.empty() || entry.state == EntryState::active || plain.doubtful.empty()) return plain;
  if (!solved_.contains(entry.id)) {
    const auto tangle = files_.tangle(entry);
    if (!tangle) return plain;
    for (auto& [id, untangled] : solve_tangle(*tangle, budget_, context_))
      solved_.emplace(id, std::move(untangled));
  }
  const auto found = solved_.find(entry.id);
  if (found == solved_.end() || !found->second.bytes) return plain;
  const Untangled& untangled = found->second;
  Content content;
  content.bytes = untangled.bytes;
  content.evidence = untangled.evidence;
  content.lost = untangled.lost;
  for (const Range& range : plain.lost)
    if (range.offset < untangled.differs_at) add_range(content.lost, range);
  doubt_from(content, std::min(plain.doubtful.front().offset, untangled.differs_at),
             entry.size_bytes);
  return content;
}

}  // namespace lantern
