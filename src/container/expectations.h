// What must stand at places of a disk, by all that is known of it, weighed against loose pieces of
// the disk: the piece that has it all belongs there.
#pragma once

#include <functional>
#include <map>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "lantern/container.h"

namespace lantern {

// How much rarer what was read is where it does not belong than where it does: bits, negative when
// it is evidence against it. What chance gives once in a thousand blocks is worth 10.
using Weigh = std::function<double(ByteView bytes)>;

// Writers take room at the end of the file: blocks that were written one after the other lie one
// after the other. The share of neighbours in the file that are seen to be neighbours on the disk;
// 0: no more than chance gives, or too few to tell.
double order_share(const LoosePieces& loose);

// Thread-safety: belongs to one thread.
class Expectations {
 public:
  // `known` as a PlaceFinder gets it.
  Expectations(const LoosePieces& loose, const SourcePtr& known, const Context& context);

  // Whether the block that holds a byte of the disk has no place in the file yet.
  bool is_open(std::uint64_t place) const;

  // `range`: of the disk, bytes; nothing happens unless it lies in one block, and that is open.
  // `what`: as in "it holds WHAT".
  void add(Range range, std::string what, Weigh weigh);

  // What is expected at a place says of a piece there: bits.
  double weigh(std::size_t piece, std::uint64_t place) const;

  // Places without a block, in order.
  std::vector<std::uint64_t> open() const;

  // Pieces that fit what is expected at one place, and no other place nearly as well; inferred
  // where that is likely, and not sure.
  std::vector<PlaceClaim> claims();
  // As of the last time.
  const std::vector<PlaceClaim>& last_claims() const { return claims_; }

  // A piece that fits what is expected at a place, surely or not.
  struct Hit {
    std::size_t piece = 0;
    std::uint64_t place = 0;
    double bits = 0;
  };
  // As of the last claims().
  const std::vector<Hit>& hits() const { return hits_; }

 private:
  struct One {
    std::uint64_t within = 0;
    std::size_t length = 0;
    std::string what;
    Weigh weigh;
  };

  struct Weight {
    double bits = 0;
    std::size_t fits = 0;            // expectations that fit
    const One* strongest = nullptr;  // of these
  };
  Weight weigh(const std::vector<One>& expected, const ByteSource& piece, ByteView held) const;
  std::map<std::size_t, std::map<std::uint64_t, double>> foretold() const;

  const LoosePieces& loose_;
  const Context& context_;
  std::map<std::uint64_t, std::vector<One>> open_;  // by the place of the block
  std::vector<Hit> hits_;
  std::vector<PlaceClaim> claims_;
};

// The disk without a word on which of it has no place: readers ask where things lie, whether that
// can be read or not.
SourcePtr unquestioned(SourcePtr disk);

}  // namespace lantern
