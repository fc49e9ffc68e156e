#include "physical/reading/repeats.h"

#define XXH_INLINE_ALL
#include <xxhash.h>

#include <algorithm>
#include <array>
#include <cstring>

namespace lantern {
namespace {

constexpr std::size_t kSlots = 1u << 20;  // 16 MiB
constexpr std::size_t kMaxFound = 1000;
constexpr std::uint64_t kMinSectors = 8;  // of a run
constexpr std::uint64_t kMinLooks = 2;    // at sectors of it
constexpr std::size_t kSparse = 8;        // sectors from one look to the next
constexpr std::size_t kAtOnce = 64;       // sectors
constexpr std::size_t kWords = 4;         // of 8 bytes
constexpr std::size_t kPlaceInStep = 24;  // bytes: not where structures have what all of them have

// Of a few words of the sector, so that half of it is not fetched from memory; empty: they are all
// the same, a fill pattern. Two sectors of one mark can differ all the same.
std::optional<std::uint64_t> mark_of(ByteView sector) {
  std::array<std::uint64_t, kWords> words{};
  const std::size_t step = sector.size() / kWords;
  for (std::size_t i = 0; i < kWords; ++i)
    std::memcpy(&words[i], sector.data() + i * step + kPlaceInStep, sizeof words[i]);
  if (std::all_of(words.begin(), words.end(), [&](std::uint64_t w) { return w == words[0]; }))
    return std::nullopt;
  return XXH3_64bits(words.data(), sizeof words);
}

}  // namespace

RepeatWatch::RepeatWatch(std::size_t sector_bytes)
    : sector_(sector_bytes), step_(kSparse * sector_bytes), seen_(kSlots) {}

void RepeatWatch::watch_closely() {
  if (step_ == sector_) return;
  end_run();
  step_ = sector_;
}

void RepeatWatch::saw(std::uint64_t offset, ByteView bytes) {
  // Their slots lie anywhere in memory: they are fetched for many sectors at once.
  std::array<std::optional<std::uint64_t>, kAtOnce> marks;
  const std::size_t skip = (step_ - offset % step_) % step_;
  if (bytes.size() < skip + sector_) return;
  const std::size_t looks = (bytes.size() - skip - sector_) / step_ + 1;
  for (std::size_t first = 0; first < looks; first += kAtOnce) {
    const std::size_t count = std::min(kAtOnce, looks - first);
    const std::size_t from = skip + first * step_;
    for (std::size_t i = 0; i < count; ++i) {
      const ByteView sector = bytes.subspan(from + i * step_, sector_);
      marks[i] = mark_of(sector);
      if (marks[i]) __builtin_prefetch(&seen_[*marks[i] % kSlots], 1);
    }
    for (std::size_t i = 0; i < count; ++i) add(offset + from + i * step_, marks[i]);
  }
}

void RepeatWatch::add(std::uint64_t place, std::optional<std::uint64_t> mark) {
  if (!mark) return end_run();
  Seen& slot = seen_[*mark % kSlots];
  if (slot.mark != *mark || slot.offset == place) {
    slot = {*mark, place};
    return end_run();
  }
  const bool adjoins = !run_.range.empty() && run_.range.end() == place;
  const bool goes_on = adjoins && !run_.one_sector && slot.offset == run_.as_at + run_.range.length;
  const bool again =
      adjoins && slot.offset == run_.as_at && (run_.one_sector || run_.range.length == step_);
  if (!goes_on && !again) {
    end_run();
    run_ = {{place, 0}, slot.offset, false};
  }
  run_.one_sector = again;
  run_.range.length += step_;
}

void RepeatWatch::end_run() {
  if (run_.range.length >= std::max(kMinSectors * sector_, kMinLooks * step_) &&
      found_.size() < kMaxFound)
    found_.push_back(run_);
  run_ = {};
}

const std::vector<Repeat>& RepeatWatch::found() {
  end_run();
  return found_;
}

}  // namespace lantern
