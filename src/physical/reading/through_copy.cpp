#include "physical/reading/through_copy.h"

#include <algorithm>

namespace lantern {

ThroughCopy::ThroughCopy(DiskCopy& copy, const ReadOrder& order, std::function<Tried(Range)> read)
    : copy_(copy), order_(order), read_(std::move(read)), image_(copy.bytes()) {}

std::optional<std::uint32_t> ThroughCopy::logical_sector_size() const {
  return static_cast<std::uint32_t>(order_.logical_sector_bytes);
}

void ThroughCopy::do_read(std::uint64_t offset, std::span<std::byte> out,
                          std::vector<Range>& unreadable) const {
  const std::lock_guard lock(mutex_);
  const Range range{offset, out.size()};
  fetch(range);
  image_->read(offset, out);
  for (const ReadMap::Run& run : copy_.map().runs(range))
    if (run.state != ReadState::good && run.state != ReadState::suspect)
      unreadable.push_back(run.range);
}

// The sectors of the range that were never tried, or left for another's sake.
void ThroughCopy::fetch(Range wanted) const {
  fetch_ahead(wanted);
  const std::uint64_t sector = order_.sector_bytes;
  const std::uint64_t from = wanted.offset / sector * sector;
  const std::uint64_t to =
      std::min(copy_.map().size(), (wanted.end() + sector - 1) / sector * sector);
  for (const ReadMap::Run& run : copy_.map().runs({from, to - from}))
    if (run.state == ReadState::untried || run.state == ReadState::left) fetch_run(run.range);
}

// A small read costs a disk as much as one of 64 KiB: where nothing was tried yet, that is asked
// for. Behind trouble it is left.
void ThroughCopy::fetch_ahead(Range wanted) const {
  const std::uint64_t each = order_.probe_bytes;
  if (wanted.length >= each) return;
  for (std::uint64_t at = wanted.offset / each * each; at < wanted.end(); at += each) {
    const Range block = intersect({at, each}, {0, copy_.map().size()});
    const std::vector<ReadMap::Run> runs = copy_.map().runs(block);
    if (runs.size() != 1 || runs.front().state != ReadState::untried) continue;
    const std::uint64_t good = std::min(read_(block).good, block.length);
    copy_.map().set({at, good}, ReadState::good);
    copy_.map().set({at + good, block.length - good}, ReadState::left);
  }
}

// Sector by sector behind the first trouble: each of them is wanted.
void ThroughCopy::fetch_run(Range range) const {
  std::uint64_t most = order_.piece_bytes;
  for (std::uint64_t at = range.offset; at < range.end();) {
    const Range piece{at, std::min(most, range.end() - at)};
    const Tried tried = read_(piece);
    const std::uint64_t good = std::min(tried.good, piece.length);
    copy_.map().set({at, good}, ReadState::good);
    at += good;
    if (good == piece.length) continue;
    const std::uint64_t sector = order_.sector_bytes;
    if (tried.no_answer && piece.length > sector) {
      most = std::max(piece.length / 4 / sector * sector, sector);
      continue;
    }
    const std::uint64_t end = std::min(at / sector * sector + sector, piece.end());
    copy_.map().set({at, end - at}, ReadState::failed, 1);
    at = end;
  }
}

}  // namespace lantern
