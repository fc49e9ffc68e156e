// Where loose pieces of a disk belong when files were written in turn: blocks of several files lie
// mixed in the file of the disk, those of each in its order. What a piece is like tells which file
// goes on in it.
#pragma once

#include <vector>

#include "nest/places/file_row.h"

namespace lantern {

// An inference: of all ways in which the blocks may have been written, weighed by how well each
// explains what lies where, nearly all put the piece there.
struct StreamClaim {
  PlaceClaim claim;
  double doubt = 0;  // share of the others: 0 to 0.1
};

// What is found both from the start of the file and from its end. Nothing where the order of the
// file says nothing, on disks of 2^32 blocks and more, of blocks below 4 KiB, nor when there are
// more than `tries` of a block at a place to do; takes away those it did. `disk`: as far as blocks
// have their place.
std::vector<StreamClaim> places_of_streams(const LoosePieces& loose, const SourcePtr& disk,
                                           const Expectations& expected, const LaidBlocks& laid,
                                           std::uint64_t& tries, const Context& context);

}  // namespace lantern
