// All blocks of a file in its order, and what is known of each: its place on the disk, or what it
// says of places and of its neighbours. Seen from the start, or from the end.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <set>
#include <unordered_map>
#include <vector>

#include "container/expectations.h"
#include "nest/places/likeness.h"

namespace lantern {

// How contents lie in blocks of the disk, by the bytes where those begin.
struct LaidBlocks {
  std::set<std::uint64_t> open;           // without a place in the file, contents lie in them
  std::map<std::uint64_t, bool> goes_on;  // a content goes on from the block before; true: with
                                          // enough on both sides to be compared
  std::vector<std::uint64_t> inside;      // bytes inside contents, to learn from
};

// Places are numbers of blocks here; seen from the end, slots and places are counted from there,
// and what lies before a block is what lies behind it.
//
// Thread-safety: one thread.
class FileRow {
 public:
  enum class From { start, end };

  FileRow(const LoosePieces& loose, const SourcePtr& disk, const Expectations& expected,
          const LaidBlocks& laid, const Likeness& likeness, From from);

  std::uint32_t count() const { return static_cast<std::uint32_t>(loose_.slots.size()); }
  std::optional<std::uint64_t> place(std::uint32_t slot) const;
  std::optional<std::uint32_t> slot_at(std::uint64_t place) const;
  const std::unordered_map<std::uint64_t, std::uint32_t>& placed() const { return slot_of_; }
  const std::set<std::uint64_t>& open() const { return open_; }

  // A content goes on in this place from the one before.
  bool goes_on(std::uint64_t place) const { return goes_on_.contains(place); }
  // What two blocks say of that, where enough of it lies on both sides: bits.
  double alike(std::uint64_t place, std::uint32_t before, std::uint32_t behind);
  // As above, of blocks whose places are not known.
  double alike(std::uint32_t before, std::uint32_t behind);
  // What is expected at a place says of a block without one: bits.
  double expects(std::uint32_t slot, std::uint64_t place);
  // Places that a block has much of what is expected of.
  std::vector<std::uint64_t> fitting(std::uint32_t slot) const;

  PlaceClaim claim(std::uint32_t slot, std::uint64_t place, std::string why) const;

 private:
  const FileSlot& at(std::uint32_t slot) const;
  std::uint64_t turned(std::uint64_t place) const;  // to and from the number on the disk
  const ByteShares& edge(std::uint32_t slot, bool tail);

  const LoosePieces& loose_;
  const SourcePtr disk_;
  const Expectations& expected_;
  const Likeness& likeness_;
  const bool from_end_;
  std::uint64_t last_ = 0;  // place
  std::unordered_map<std::uint64_t, std::uint32_t> slot_of_;
  std::set<std::uint64_t> open_;
  std::map<std::uint64_t, bool> goes_on_;
  std::unordered_map<std::size_t, std::vector<std::uint64_t>> fitting_;  // by piece
  std::unordered_map<std::uint64_t, ByteShares> edges_;
  std::unordered_map<std::uint64_t, double> alike_, expects_;
};

}  // namespace lantern
