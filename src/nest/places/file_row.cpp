#include "nest/places/file_row.h"

#include <algorithm>

namespace lantern {
namespace {

// Bits: among so many blocks and places, what is rarer still is met by chance.
constexpr double kMaxExpected = 8;

}  // namespace

FileRow::FileRow(const LoosePieces& loose, const SourcePtr& disk, const Expectations& expected,
                 const LaidBlocks& laid, const Likeness& likeness, From from)
    : loose_(loose),
      disk_(disk),
      expected_(expected),
      likeness_(likeness),
      from_end_(from == From::end),
      last_(disk->size() / loose.piece_bytes + 1) {
  const std::uint64_t unit = loose.piece_bytes;
  for (std::uint32_t slot = 0; slot < count(); ++slot)
    if (const auto placed = place(slot)) slot_of_.emplace(*placed, slot);
  for (const std::uint64_t place : laid.open) open_.insert(turned(place / unit));
  for (const auto& [place, enough] : laid.goes_on)
    goes_on_.emplace(turned(place / unit) + (from_end_ ? 1 : 0), enough);
  for (const auto& hit : expected.hits()) fitting_[hit.piece].push_back(turned(hit.place / unit));
}

const FileSlot& FileRow::at(std::uint32_t slot) const {
  return loose_.slots[from_end_ ? count() - 1 - slot : slot];
}

std::uint64_t FileRow::turned(std::uint64_t place) const {
  return from_end_ ? last_ - place : place;
}

std::optional<std::uint64_t> FileRow::place(std::uint32_t slot) const {
  const auto& place = at(slot).place;
  return place ? std::optional(turned(*place / loose_.piece_bytes)) : std::nullopt;
}

std::optional<std::uint32_t> FileRow::slot_at(std::uint64_t place) const {
  const auto found = slot_of_.find(place);
  return found == slot_of_.end() ? std::nullopt : std::optional(found->second);
}

const ByteShares& FileRow::edge(std::uint32_t slot, bool tail) {
  const auto [found, isnew] = edges_.try_emplace(std::uint64_t{slot} << 1 | (tail ? 1 : 0));
  if (isnew) {
    const FileSlot& block = at(slot);
    const std::uint64_t within = tail ? loose_.piece_bytes - Likeness::kLooked : 0;
    found->second = block.place ? Likeness::shares(*disk_, *block.place + within)
                                : Likeness::shares(*loose_.bytes[block.piece], within);
  }
  return found->second;
}

double FileRow::alike(std::uint32_t before, std::uint32_t behind) {
  const auto [found, isnew] = alike_.try_emplace(std::uint64_t{before} << 32 | behind);
  if (isnew)
    found->second = from_end_ ? likeness_.weigh(edge(behind, true), edge(before, false))
                              : likeness_.weigh(edge(before, true), edge(behind, false));
  return found->second;
}

double FileRow::alike(std::uint64_t place, std::uint32_t before, std::uint32_t behind) {
  const auto found = goes_on_.find(place);
  return found != goes_on_.end() && found->second ? alike(before, behind) : 0;
}

double FileRow::expects(std::uint32_t slot, std::uint64_t place) {
  const auto [found, isnew] = expects_.try_emplace(std::uint64_t{slot} << 32 | place);
  if (isnew)
    found->second = std::clamp(expected_.weigh(at(slot).piece, turned(place) * loose_.piece_bytes),
                               -kMaxExpected, kMaxExpected);
  return found->second;
}

std::vector<std::uint64_t> FileRow::fitting(std::uint32_t slot) const {
  const auto found = fitting_.find(at(slot).piece);
  return found == fitting_.end() ? std::vector<std::uint64_t>() : found->second;
}

PlaceClaim FileRow::claim(std::uint32_t slot, std::uint64_t place, std::string why) const {
  return {at(slot).piece, turned(place) * loose_.piece_bytes, std::move(why), true};
}

}  // namespace lantern
