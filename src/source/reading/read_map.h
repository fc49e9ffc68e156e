// ReadMap: what of a disk was read, what is still to be tried, and what failed.
//
// Thread-safety: belongs to one thread.
#pragma once

#include <array>
#include <map>
#include <optional>
#include <set>
#include <utility>
#include <vector>

#include "lantern/range.h"

namespace lantern {

enum class ReadState {
  untried,
  left,    // a read that met trouble before it, or was slow: to be tried again by itself
  good,    // in the image
  failed,  // a read of it alone failed
  suspect  // in the image; other bytes came when it was read again
};
constexpr std::size_t kReadStates = 5;

class ReadMap {
 public:
  struct Run {
    Range range;
    ReadState state{};
    unsigned tries = 0;  // of what failed: reads of it alone
  };

  explicit ReadMap(std::uint64_t size_bytes);

  void set(Range range, ReadState state, unsigned tries = 0);
  std::uint64_t size() const { return size_; }
  std::uint64_t bytes(ReadState state) const { return bytes_.at(index(state)); }
  // Runs of one state, tried as often, that touch are one.
  std::vector<Run> runs() const;
  std::optional<Range> largest(ReadState state) const;
  // The first of a state that ends behind `from`, cut to begin there.
  std::optional<Range> next(ReadState state, std::uint64_t from) const;
  // What touches `range`, cut to it.
  std::vector<Run> runs(Range range) const;
  // Of the byte; nothing past the end.
  std::optional<ReadState> at(std::uint64_t offset) const;

 private:
  struct Held {
    std::uint64_t length = 0;
    ReadState state{};
    unsigned tries = 0;
  };
  using Runs = std::map<std::uint64_t, Held>;
  static std::size_t index(ReadState state) { return static_cast<std::size_t>(state); }
  void split(std::uint64_t at);
  void add(std::uint64_t at, Held run);
  Runs::iterator take(Runs::iterator run);

  std::uint64_t size_;
  Runs runs_;  // by offset, without gaps
  std::array<std::uint64_t, kReadStates> bytes_{};
  std::array<std::set<std::pair<std::uint64_t, std::uint64_t>>, kReadStates> by_length_;
};

}  // namespace lantern
