// Where loose pieces of a disk belong by the files that go on in them: a file whose records say
// where it lies and whose first part has its place is followed into each piece, and goes on in the
// right one alone.
//
// Thread-safety: one thread; it uses others.
#pragma once

#include <cstdint>
#include <optional>
#include <set>
#include <utility>
#include <vector>

#include "base/kinds/signatures.h"
#include "catalog/finds.h"
#include "contents/joiner.h"
#include "lantern/container.h"

namespace lantern {

struct LaidFile {
  std::uint64_t size_bytes = 0;
  std::vector<FindPiece> pieces;  // bytes of the disk, in the order of the file
};

class FileContinuation {
 public:
  FileContinuation(const LoosePieces& loose, const Context& context);

  // Each first piece without a place of each file is tried once.
  std::vector<PlaceClaim> claims(const SourcePtr& disk, const std::vector<LaidFile>& files,
                                 const std::set<std::uint64_t>& open);

 private:
  // The part of a file that lies in the first block without a place.
  struct Missing {
    std::vector<FindPiece> before;  // what is known of the file
    std::uint64_t border = 0;       // byte of the file
    std::uint64_t length = 0;
    std::uint64_t block = 0;   // place on the disk
    std::uint64_t within = 0;  // bytes of the block
  };
  std::optional<Missing> missing_of(const LaidFile& file,
                                    const std::set<std::uint64_t>& open) const;
  std::optional<PlaceClaim> follow(const LaidFile& file, const SignatureKind& kind,
                                   const Missing& missing, const SourcePtr& with_pieces,
                                   std::uint64_t pieces_at);
  // Those of which one may be the missing block first; the others are there to fail.
  struct Tried {
    std::vector<std::size_t> pieces;
    std::size_t may_fit = 0;
  };
  Tried pieces_for(std::uint64_t block) const;
  std::vector<Joiner::Reach> try_all(const Joiner& joiner, const Missing& missing,
                                     const std::vector<std::size_t>& pieces,
                                     std::uint64_t pieces_at) const;

  const LoosePieces& loose_;
  const Context& context_;
  std::uint64_t work_;                                       // bytes that may still be read
  std::set<std::pair<std::uint64_t, std::uint64_t>> tried_;  // first byte on the disk, border
};

}  // namespace lantern
