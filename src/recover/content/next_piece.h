// Where on a disk a content goes on that breaks in its last known piece.
//
// Thread-safety: one thread; it uses others.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <vector>

#include "contents/joiner.h"
#include "recover/content/tails.h"

namespace lantern {

struct NextPieceFound {
  std::uint64_t border = 0;  // byte of the content from which on it lies elsewhere
  std::uint64_t place = 0;   // byte of the disk, where
  Joiner::Reach reach;
  bool certain = true;  // with a border a little earlier or later it would not fit
};

class NextPiece {
 public:
  // `pieces`: the last one goes on to the end of the disk. `breaks`: of the content. Pieces begin
  // at multiples of `unit`. `work`: that may be done, and is taken from it (KindReader::spend).
  NextPiece(const SourcePtr& disk, std::vector<FindPiece> pieces, Range breaks,
            const SignatureKind& kind, std::uint64_t unit, std::uint64_t& work,
            const Context& context);

  // By the ends that files of its kind have in this range of the disk (tails.h). Empty: not so.
  std::optional<NextPieceFound> by_tails(Range range, const RangeSet& taken);
  // At one of these places, with one of so many borders before the break; the first that makes it
  // complete, or the one with which it goes on farthest.
  std::optional<NextPieceFound> by_places(std::span<const std::uint64_t> places,
                                          std::uint64_t borders);
  // Byte of the disk behind which the next piece is, when it is not before.
  std::uint64_t break_place() const;

 private:
  struct Try {
    std::uint64_t border = 0, place = 0;
  };
  // In the order given; gives whether one made it complete.
  bool attempt(std::span<const Try> tries);
  bool take(const Try& one, Joiner::Reach reach);
  std::vector<std::uint64_t> borders(std::uint64_t more) const;
  void check_neighbours();
  bool is_unlike(std::uint64_t other) const;

  const SourcePtr& disk_;
  std::vector<FindPiece> pieces_;
  Range breaks_;
  const SignatureKind& kind_;
  std::uint64_t unit_;
  std::uint64_t& work_;
  const Context& context_;
  std::unique_ptr<Joiner> joiner_;
  std::uint64_t begin_ = 0;  // of the last piece, in the content
  std::optional<NextPieceFound> best_;
  std::uint64_t noticed_ = 0;  // where the last try broke
};

}  // namespace lantern
