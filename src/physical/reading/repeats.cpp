#include "physical/reading/repeats.h"

#define XXH_INLINE_ALL
#include <xxhash.h>

#include <algorithm>

namespace lantern {
namespace {

constexpr std::size_t kSlots = 1u << 20;  // 16 MiB
constexpr std::size_t kMaxFound = 1000;
constexpr std::uint64_t kMinSectors = 8;  // of a run
constexpr std::size_t kPeriod = 32;       // bytes: what repeats within it is a fill pattern

// Text, tables and pictures do not; fill patterns are the same everywhere.
bool is_pattern(ByteView sector) {
  return sector.size() <= kPeriod ||
         std::equal(sector.begin() + kPeriod, sector.end(), sector.begin());
}

}  // namespace

RepeatWatch::RepeatWatch(std::uint64_t sector_bytes) : sector_(sector_bytes), seen_(kSlots) {}

void RepeatWatch::saw(std::uint64_t offset, ByteView bytes) {
  for (std::size_t at = 0; at + sector_ <= bytes.size(); at += static_cast<std::size_t>(sector_)) {
    const ByteView sector = bytes.subspan(at, static_cast<std::size_t>(sector_));
    const std::uint64_t place = offset + at;
    if (is_pattern(sector)) {
      end_run();
      continue;
    }
    const std::uint64_t hash = XXH3_64bits(sector.data(), sector.size());
    Seen& slot = seen_[hash % kSlots];
    if (slot.hash != hash || slot.offset == place) {
      slot = {hash, place};
      end_run();
      continue;
    }
    const bool adjoins = !run_.range.empty() && run_.range.end() == place;
    const bool goes_on =
        adjoins && !run_.one_sector && slot.offset == run_.as_at + run_.range.length;
    const bool again =
        adjoins && slot.offset == run_.as_at && (run_.one_sector || run_.range.length == sector_);
    if (!goes_on && !again) {
      end_run();
      run_ = {{place, 0}, slot.offset, false};
    }
    run_.one_sector = again;
    run_.range.length += sector_;
  }
}

void RepeatWatch::end_run() {
  if (run_.range.length >= kMinSectors * sector_ && found_.size() < kMaxFound)
    found_.push_back(run_);
  run_ = {};
}

const std::vector<Repeat>& RepeatWatch::found() {
  end_run();
  return found_;
}

}  // namespace lantern
